"""Measuring: which clock, how sure, and edits that leave the picture alone."""

from __future__ import annotations

import itertools
from pathlib import Path
from types import SimpleNamespace
from typing import cast

import msgspec
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.conftest import load_opengl
from wendascope import records
from wendascope.analysis.time.budget import judge, most_expensive_passes
from wendascope.errors import CancelledError, ReplayCrashedError
from wendascope.measure.calibrate import calibrate, choose_clock
from wendascope.measure.certainty import doubts
from wendascope.measure.pictures import picture_at, verify
from wendascope.measure.records import PassTime, Survey
from wendascope.measure.statistics import Interval, median_interval, rank_bounds
from wendascope.measure.survey import survey
from wendascope.measure.times import fragments
from wendascope.replay.client import Replay
from wendascope.replay.progress import CANCEL
from wendascope.task import Task
from wendascope.trials.survey.examine import examine_file


def test_this_driver_is_timed_by_draining(small: Path) -> None:
    """The software driver's timer queries are wrong; calibration must find that out by itself."""
    with Replay(small) as replay:
        found = replay.run(calibrate.asked())
    assert found.method == "drain"
    growth = found.large_drain_ms / found.small_drain_ms
    assert found.work_ratio / 3 < growth < found.work_ratio * 3
    assert found.empty_ms < found.small_drain_ms


def test_a_job_that_is_cancelled_as_it_ends_takes_nothing_with_it(small: Path) -> None:
    with Replay(small) as replay:
        before = replay.run(verify.asked())
        process, connection = replay._process, replay._connection
        assert connection is not None
        connection.send_bytes(CANCEL)
        assert replay.run(verify.asked()) == before
        assert replay._process is process, "the process goes on"


@pytest.mark.parametrize(
    ("small", "large", "small_query", "large_query", "method"),
    [
        (2.0, 32.0, 1.9, 31.0, "timer query"),
        (2.0, 32.0, 0.0001, 0.0001, "drain"),
        (2.0, 32.0, 20.0, 31.0, "drain"),
        (2.0, 32.0, None, None, "drain"),
        (2.0, 32.0, 0.1, 31.0, "drain"),
    ],
)
def test_the_credible_clock_is_chosen(
    small: float, large: float, small_query: float | None, large_query: float | None, method: str
) -> None:
    assert choose_clock(small, large, small_query, large_query, 16.0)[0] == method


@given(st.lists(st.floats(0, 1e6), min_size=1, max_size=40))
def test_the_interval_holds_the_median(samples: list[float]) -> None:
    found = median_interval(np.array(samples))
    assert found.low <= found.median <= found.high
    assert min(samples) <= found.low and found.high <= max(samples)


def test_intervals_cover_the_true_median_often_enough() -> None:
    random = np.random.default_rng(2)
    for n in (6, 9, 15, 30):
        hits = 0
        for _ in range(2000):
            found = median_interval(random.exponential(size=n))
            hits += found.low <= np.log(2) <= found.high
        assert hits / 2000 > 0.94, n
    assert rank_bounds(6) == (0, 5)


def test_a_survey_is_complete_and_kept(own_small: Path) -> None:
    found = examine_file(own_small, repeats=3)
    frame, survey = found.frame, found.survey
    assert survey.verification.identical and survey.method == "drain"
    assert len(survey.steps.ms) == len(frame.steps) == 22
    assert [p.name for p in survey.passes] == frame.passes.names
    assert all(
        low <= ms <= high
        for low, ms, high in zip(survey.steps.ms_low, survey.steps.ms, survey.steps.ms_high, strict=True)
    )
    assert survey.frame_ms.median > 0 and survey.cpu.frame_ms > 0
    assert survey.fragments is not None and sum(survey.fragments) > 1000
    assert records.SURVEY.newest(own_small) == survey
    lane = frame.cpu_lane
    assert survey.cpu.calls_ms + survey.cpu.waits_ms <= lane.frame_ms + 1e-6


def test_fragments_are_counted_exactly(small: Path) -> None:
    """A quad scaled to s of a 96-pixel window without depth test covers (96 s)^2 pixels, each instance once."""
    frame = load_opengl(small)
    with Replay(small) as replay:
        counts = replay.run(fragments.asked())
    assert counts is not None
    draws = [c for c, kind in zip(counts, frame.steps.kind.tolist(), strict=True) if kind == 0]
    for i, count in enumerate(draws[1:]):
        scale = 0.9 - i * 0.04
        edge = round(96 * (1 + scale) / 2) - round(96 * (1 - scale) / 2)
        assert abs(count - edge * edge * (1 + i % 2)) <= 4 * edge * (1 + i % 2)


def test_timing_does_not_change_the_picture(small: Path) -> None:
    with Replay(small) as replay:
        replay.run(survey.asked(repeats=1))
        after = replay.run(verify.asked())
    assert after.identical


def test_pictures_grow_step_by_step(small: Path) -> None:
    frame = load_opengl(small)
    with Replay(small) as replay:
        pictures = [replay.run(picture_at.asked(step=s))["pixels"] for s in (1, 2, 10, len(frame.steps) - 1)]
    assert frame.reference is not None
    assert len(np.unique(pictures[0].reshape(-1, 4), axis=0)) == 1, "a clear makes one colour"
    differences = [int((a != b).any(axis=2).sum()) for a, b in itertools.pairwise(pictures)]
    assert all(d > 100 for d in differences)
    assert np.array_equal(pictures[-1], frame.reference.pixels)


@pytest.mark.driver
def test_cancelling_stops_a_survey(depot: Path) -> None:
    seen: list[str] = []
    with Replay(depot) as replay, pytest.raises(CancelledError):
        replay.run(survey.asked(), Task(lambda what, _part: seen.append(what), lambda: "timing the frame" in seen))
    assert records.SURVEY.newest(depot) is not None, "the survey that was in the file is still there"


def test_a_crash_names_the_call_and_the_next_job_runs(small: Path) -> None:
    frame = load_opengl(small)
    with Replay(small) as replay:
        with pytest.raises(ReplayCrashedError) as error:
            _crash(replay)
        assert error.value.call is None or 0 <= error.value.call < len(frame.calls)
        assert replay.run(verify.asked()).identical


def _crash(replay: Replay) -> None:
    """End the replay process as a driver crash would, in the middle of a job."""
    import os
    import signal

    def kill(_what: str, _part: float) -> None:
        assert replay._process is not None
        os.kill(replay._process.pid, signal.SIGSEGV)

    replay.run(survey.asked(), Task(kill))


# ---- conclusions ---------------------------------------------------------------------------------------


def test_the_answer_sentence() -> None:
    verdict = judge(41.2, 6.0, [20.0, 8.0, 6.0, 2, 2, 1, 1, 1, 0.2], 16.7)
    assert verdict.sentence == "2.5 times the budget: GPU-bound."
    assert verdict.numbers == "41.2 ms of 16.7 ms; three of nine passes are 83 % of it"
    assert judge(5.0, 3.0, [5.0], 16.7).sentence == "30 % of the budget: within it."
    assert judge(5.0, 30.0, [5.0], 16.7).late == "CPU"


@given(st.lists(st.floats(0.001, 100), min_size=1, max_size=20))
def test_dearest_passes_are_the_fewest(times: list[float]) -> None:
    count, share = most_expensive_passes(times)
    assert share >= 0.8 - 1e-9
    assert sum(sorted(times, reverse=True)[: count - 1]) < 0.8 * sum(times) + 1e-9


def test_waits_are_kept_apart(depot: Path) -> None:
    """On the software driver some cheap calls block for all the work before them."""
    frame = load_opengl(depot)
    lane = frame.cpu_lane
    assert 0 < lane.waits.sum() < 100
    assert lane.duration[lane.waits].min() > 5 * np.median(lane.duration[~lane.waits])


def test_the_shipped_survey_fits_its_frame(depot: Path) -> None:
    survey = records.SURVEY.newest(depot)
    assert isinstance(survey, Survey) and survey.verification.identical
    assert len(survey.steps.ms) == len(load_opengl(depot).steps)
    assert msgspec.json.decode(msgspec.json.encode(survey), type=Survey) == survey


def test_times_of_a_busy_machine_are_doubted() -> None:
    def surveyed(low: float, median: float, high: float, *passes: float) -> Survey:
        rows = [PassTime(i, "", 1, ms, ms, ms, ms, 0.0, "", 1, 1) for i, ms in enumerate(passes)]
        found = SimpleNamespace(frame_ms=Interval(median, low, high), passes=rows)
        return cast("Survey", found)

    assert doubts(surveyed(9.8, 10.0, 10.3, 6.0, 4.2)) == []
    (wide,) = doubts(surveyed(9.0, 10.0, 14.0, 6.0, 4.2))
    assert "times are unsure, 9.0 to 14.0 ms" in wide
    (apart,) = doubts(surveyed(9.8, 10.0, 10.3, 16.0, 4.0))
    assert "add up to 20.0 ms" in apart and "overlaps" in apart
    assert "load of this machine" in doubts(surveyed(9.0, 10.0, 14.0, 16.0, 4.0))[1]
