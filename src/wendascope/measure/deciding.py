"""When enough pairs were measured: looks at a growing sample, whose chances of a wrong claim add up as promised.

Group-sequential, with the error spent look by look (Lan and DeMets, "Discrete sequential boundaries for clinical
trials", Biometrika 70, 1983), here by the union bound: at each look the interval of signed ranks that holds the median
with a certainty of 1 - alpha of that look (see `statistics.signed_rank_interval`). It needs neither a distribution nor
a variance, only that differences of pairs scatter evenly round their median, as they do where each goes first as often
as the other; drift of the machine falls on both of a pair.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from enum import StrEnum

import numpy as np

from wendascope.measure.statistics import Interval, signed_rank_interval

LOOKS = ((10, 0.002), (15, 0.0007), (22, 0.0005), (32, 0.0004), (48, 0.0004))
"""(pairs, chance of a wrong claim at this look). Ten pairs are the fewest whose range holds the median so surely."""
_LAST_HALF = 0.39
"""Half of the interval of the last look, as a part of the range of the middle half of the differences: of normal noise,
for which that range is 1.35 deviations and the interval at 48 pairs 0.53 either way."""
ERROR = sum(alpha for _, alpha in LOOKS)
"""The chance that any look claims a difference where there is none: 0.4 %."""
MOST_PAIRS = LOOKS[-1][0]
_LONGEST_TO_LOOK = 90.0
"""Seconds that slow pairs may take until the first look."""


class Decision(StrEnum):
    """What the differences of pairs, original less changed, come to."""

    GAIN = "gain"
    LOSS = "loss"
    SMALL = "small"
    """Less than what matters, either way."""
    OPEN = "open"


@dataclass
class Measure:
    """One quantity of pairs, decided as they come. All in the same unit.

    A difference is claimed when the whole interval lies beyond `floor`, and said to be small when it lies within
    `small`.
    """

    floor: float
    small: float
    differences: list[float] = field(default_factory=list)
    decision: Decision = Decision.OPEN
    interval: Interval | None = None
    """At the last look."""
    looks: int = 0
    hopeless: bool = False
    """Whether all pairs together are unlikely to decide it. To stop for that costs no certainty of what is claimed."""

    def add(self, difference: float) -> None:
        """Take one pair; decides when it is time for a look."""
        self.differences.append(difference)
        if self.looks < len(LOOKS) and len(self.differences) == LOOKS[self.looks][0]:
            self._look(LOOKS[self.looks][1])
            self.looks += 1

    def _look(self, alpha: float) -> None:
        found = signed_rank_interval(np.array(self.differences), 1 - alpha)
        # no later look widens what an earlier one has shown: both hold at the promised certainty
        if self.interval is not None:
            low, high = max(found.low, self.interval.low), min(found.high, self.interval.high)
            found = Interval(min(max(found.median, low), high), low, high) if low <= high else found
        self.interval = found
        if self.decision is Decision.OPEN:
            if found.low > self.floor:
                self.decision = Decision.GAIN
            elif found.high < -self.floor:
                self.decision = Decision.LOSS
            elif -self.small <= found.low and found.high <= self.small:
                self.decision = Decision.SMALL
        quarter, three = np.percentile(self.differences, (25, 75))
        half, middle = _LAST_HALF * float(three - quarter), abs(found.median)
        self.hopeless = not self.decided and middle - half <= self.floor and middle + half > self.small

    @property
    def decided(self) -> bool:
        return self.decision is not Decision.OPEN


def all_decided(measures: Sequence[Measure]) -> bool:
    """Whether no more pairs are needed, or none would help."""
    return all(measure.decided or measure.hopeless for measure in measures)


Order = tuple[int, int]
"""Which of a pair goes first: 0 is the original, 1 the changed."""


def differences_of(run: Callable[[int], Sequence[float]]) -> Callable[[Order], list[float]]:
    """Runs a pair: `run(0)` gives the numbers of the original, `run(1)` those of the changed."""

    def pair(order: Order) -> list[float]:
        taken = {which: run(which) for which in order}
        return [before - after for before, after in zip(taken[0], taken[1], strict=True)]

    return pair


def _worth_a_look(pairs: int, spent: float) -> bool:
    """Whether the first look is still ahead, and near enough to go on for it."""
    first = LOOKS[0][0]
    return pairs < first and spent / pairs * first <= _LONGEST_TO_LOOK


def in_turns(
    pair: Callable[[Order], Sequence[float]],
    measures: Sequence[Measure],
    seconds: float,
    told: Callable[[float], None] = lambda _part: None,
) -> float:
    """Run pairs of original and changed until all is decided or `seconds` are over; slow ones for longer, as far as the
    first look, before which nothing can be claimed. They take turns in going first.

    `pair` runs one and gives the difference for every measure, original less changed. `told` hears how much of the
    time is over. Returns the seconds it took.
    """
    started = time.monotonic()
    for number in range(MOST_PAIRS):
        spent = time.monotonic() - started
        if number and (all_decided(measures) or (spent > seconds and not _worth_a_look(number, spent))):
            break
        told(min(spent / max(seconds, 1e-3), 1.0))
        for measure, difference in zip(measures, pair((0, 1) if number % 2 == 0 else (1, 0)), strict=True):
            measure.add(difference)
    return time.monotonic() - started
