"""Deciding as pairs come: what is claimed is right at the rate that is promised, whatever the noise."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.stats import wilcoxon

from wendascope.measure.deciding import (
    ERROR,
    LOOKS,
    MOST_PAIRS,
    Decision,
    Measure,
    all_decided,
    differences_of,
    in_turns,
)
from wendascope.measure.statistics import signed_rank_interval

Noise = npt.NDArray[np.float64]


def decide(differences: Noise, floor: float = 0.0, small: float = 1.0) -> Measure:
    measure = Measure(floor, small)
    for difference in differences.tolist():
        measure.add(difference)
        if measure.decided:
            break
    return measure


def noise(random: np.random.Generator, kind: str, count: int) -> Noise:
    """Differences of pairs under noise as machines have it, each of median 0."""
    match kind:
        case "normal":
            return random.normal(0, 1, count)
        case "heavy tails":
            return random.standard_t(1.5, count)
        case "outliers":
            return np.asarray(
                random.normal(0, 1, count) + (random.random(count) < 0.1) * random.choice([-50, 50], count)
            )
        case "drift":  # of both of a pair: what is left of it changes sign with their order
            drift = np.cumsum(random.normal(0, 0.5, count))
            return random.normal(0, 1, count) + np.diff(drift, prepend=0) * np.where(np.arange(count) % 2, 1, -1)
        case "loaded":  # the machine is slower for a while, and noisier
            slow = np.where((np.arange(count) // 7) % 2, 8.0, 1.0)
            return random.normal(0, 1, count) * slow
    raise ValueError(kind)


@pytest.mark.parametrize("kind", ["normal", "heavy tails", "outliers", "drift", "loaded"])
def test_no_difference_is_claimed_where_there_is_none(kind: str) -> None:
    """Of 1,500 samples without a difference no more are claimed than promised, give or take three deviations; with
    nothing taken for small, so that every sample runs through all looks.
    """
    random = np.random.default_rng(5)
    runs = 1500
    wrong = sum(
        decide(noise(random, kind, MOST_PAIRS), small=0.0).decision in (Decision.GAIN, Decision.LOSS)
        for _ in range(runs)
    )
    assert wrong <= ERROR * runs + 3 * np.sqrt(ERROR * runs), wrong


@pytest.mark.parametrize("kind", ["normal", "heavy tails", "outliers", "drift", "loaded"])
def test_the_interval_holds_what_is_true(kind: str) -> None:
    random = np.random.default_rng(6)
    missed = 0
    for _ in range(600):
        shift = float(random.uniform(-3, 3))
        interval = decide(noise(random, kind, MOST_PAIRS) + shift, small=0.5).interval
        assert interval is not None
        missed += not interval.low <= shift <= interval.high
    assert missed <= ERROR * 600 + 3 * np.sqrt(ERROR * 600), missed


def test_a_clear_difference_is_found_at_the_first_look() -> None:
    random = np.random.default_rng(7)
    found = [decide(noise(random, "normal", MOST_PAIRS) + 6.0) for _ in range(100)]
    assert all(m.decision is Decision.GAIN and len(m.differences) == LOOKS[0][0] for m in found)
    lost = decide(noise(random, "normal", MOST_PAIRS) - 6.0)
    assert lost.decision is Decision.LOSS


def test_a_difference_of_the_size_of_the_noise_is_found_in_the_end() -> None:
    random = np.random.default_rng(8)
    found = [decide(noise(random, "normal", MOST_PAIRS) + 1.0) for _ in range(200)]
    assert sum(m.decision is Decision.GAIN for m in found) >= 195


def test_small_is_said_only_within_the_bound() -> None:
    random = np.random.default_rng(9)
    quiet = decide(0.1 * noise(random, "normal", MOST_PAIRS), small=1.0)
    assert quiet.decision is Decision.SMALL and len(quiet.differences) == LOOKS[0][0]
    loud = decide(5 * noise(random, "normal", MOST_PAIRS), small=1.0)
    assert loud.decision is Decision.OPEN and len(loud.differences) == MOST_PAIRS and loud.interval is not None


def test_giving_up_comes_early_where_all_pairs_would_not_do() -> None:
    """Noise far above what matters is given up at the first look; a single outlier is no such noise."""
    random = np.random.default_rng(10)
    loud = [decide(50 * noise(random, "normal", LOOKS[0][0]), floor=0.1, small=1.0) for _ in range(100)]
    assert sum(m.hopeless for m in loud) >= 70
    outlier = decide(np.append(np.full(9, 0.1), 500.0), floor=0.2, small=1.0)
    assert not outlier.decided and not outlier.hopeless
    clear = [decide(noise(random, "normal", LOOKS[0][0]) + 4.0, floor=0.1, small=0.5) for _ in range(100)]
    assert not any(m.hopeless for m in clear)


def test_what_is_below_the_floor_is_no_gain() -> None:
    assert decide(np.full(64, 0.5), floor=1.0, small=0.1).decision is Decision.OPEN
    assert decide(np.full(64, 0.5), floor=1.0, small=0.6).decision is Decision.SMALL
    assert decide(np.full(64, 1.5), floor=1.0).decision is Decision.GAIN


@given(st.lists(st.floats(-1e6, 1e6), max_size=80))
def test_any_numbers_end_in_an_interval_that_holds_together(values: list[float]) -> None:
    measure = Measure(0.1, 1.0)
    for value in values:
        measure.add(value)
    assert (measure.interval is None) == (len(values) < LOOKS[0][0])
    if measure.interval is not None:
        assert measure.interval.low <= measure.interval.median <= measure.interval.high
    assert all_decided([measure]) == (measure.decided or measure.hopeless) and all_decided([])


def test_every_look_has_an_interval_of_its_certainty() -> None:
    """The chance that the signed ranks of so many samples show a difference where there is none, by another library."""
    random = np.random.default_rng(11)
    for pairs, alpha in LOOKS:
        for _ in range(30):
            samples = random.normal(random.uniform(0, 1.5), 1, pairs)
            interval = signed_rank_interval(samples, 1 - alpha)
            for edge, shown in (
                (interval.low - 1e-9, True),
                (interval.low + 1e-9, False),
                (interval.high + 1e-9, True),
            ):
                chance = float(wilcoxon(samples - edge, method="exact").pvalue)
                assert (chance <= alpha) == shown, (pairs, chance, alpha)


def test_pairs_take_turns_until_all_is_decided(monkeypatch: pytest.MonkeyPatch) -> None:
    asked: list[int] = []

    def run(which: int) -> list[float]:
        asked.append(which)
        return [10.0 - which, 5.0]

    measures = [Measure(0.1, 0.5), Measure(0.1, 0.5)]
    in_turns(differences_of(run), measures, 60.0)
    assert [m.decision for m in measures] == [Decision.GAIN, Decision.SMALL]
    assert len(asked) == 2 * LOOKS[0][0] and asked[:4] == [0, 1, 1, 0]
    enough = Measure(0.1, 0.5)
    in_turns(lambda _order: [0.0], [enough], 0.0)
    assert len(enough.differences) == LOOKS[0][0]  # the time is over, and the first look near
    monkeypatch.setattr("wendascope.measure.deciding._LONGEST_TO_LOOK", 0.0)
    only_one = Measure(0.1, 0.5)
    in_turns(lambda _order: [0.0], [only_one], 0.0)
    assert len(only_one.differences) == 1  # the first look is too far off
