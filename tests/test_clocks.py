"""Which clock verdicts go by, on machines that are not here: what clocks show is made up."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
import pytest

from wendascope.backends.doors import CPU, THREAD, WALL
from wendascope.backends.opengl.instruments.clocks import READING_BYTES, readings
from wendascope.measure.calibrate import choose_verdict_clock, clock_trials
from wendascope.measure.clocks import Clock

RATIO = 16.0
Rows = npt.NDArray[np.float64]


def shows(large: float, scatter: float = 0.01, grows: float = RATIO) -> Rows:
    """Five repeats of the small and the large work, shape (5, 2)."""
    noise = 1 + scatter * np.linspace(-0.5, 0.5, 5)
    return np.stack([large / grows * np.ones(5), large * noise], axis=1)


def chosen(alone: dict[Clock, Rows], loaded: dict[Clock, Rows] | None) -> str:
    return choose_verdict_clock(clock_trials(alone, loaded, RATIO))[0]


def test_a_graphics_card_is_timed_by_its_own_queries() -> None:
    """The process only waits: its CPU time does not grow with the work."""
    alone = {Clock.DRAIN: shows(4.2, 0.05), Clock.CPU: shows(0.3, 0.02, 1.1), Clock.QUERY: shows(4.0)}
    assert chosen(alone, None) == Clock.QUERY
    loaded = {Clock.DRAIN: shows(5.0, 0.4), Clock.CPU: shows(0.3, 0.02, 1.1), Clock.QUERY: shows(4.0, 0.02)}
    assert chosen(alone, loaded) == Clock.QUERY


def test_a_software_driver_is_timed_by_its_own_threads() -> None:
    """Its queries show next to nothing, and load shakes the wall."""
    alone = {Clock.DRAIN: shows(30.0), Clock.CPU: shows(59.0, 0.03), Clock.QUERY: shows(1.2, 0.6, 5.0)}
    loaded = {Clock.DRAIN: shows(80.0, 0.2), Clock.CPU: shows(60.0, 0.02), Clock.QUERY: shows(1.4, 0.9, 5.0)}
    assert chosen(alone, loaded) == Clock.CPU
    trials = clock_trials(alone, loaded, RATIO)
    assert [t.clock for t in trials if not t.credible] == [Clock.QUERY]
    assert "under load" in choose_verdict_clock(trials)[1]


def test_a_query_that_scatters_twice_as_much_still_goes_first() -> None:
    steady, loose = shows(10.0, 0.04), shows(10.0, 0.07)
    assert chosen({Clock.DRAIN: shows(10.0, 0.5), Clock.CPU: steady, Clock.QUERY: loose}, None) == Clock.QUERY
    assert chosen({Clock.DRAIN: shows(10.0, 0.5), Clock.CPU: steady, Clock.QUERY: shows(10.0, 0.3)}, None) == Clock.CPU


def test_a_clock_that_does_not_grow_with_the_work_is_not_believed() -> None:
    trials = clock_trials({Clock.DRAIN: shows(10.0, 0.5), Clock.CPU: shows(10.0, 0.01, 2.0)}, None, RATIO)
    assert choose_verdict_clock(trials)[0] == Clock.DRAIN and not trials[1].credible


def test_without_any_clock_the_wall_is_left() -> None:
    assert choose_verdict_clock([]) == (Clock.DRAIN, "no clock is credible")


@pytest.mark.parametrize("count", [1, 2])
def test_readings_come_out_of_the_output_of_a_batch(count: int) -> None:
    words = np.zeros((count, READING_BYTES // 8), np.uint64)
    words[:, 0], words[:, 1], words[:, 2] = 3_000_000, 2_000_000, 500_000
    found = readings(words.tobytes())
    assert found.shape == (count, 3)
    assert (found[-1, WALL], found[-1, CPU], found[-1, THREAD]) == (3.0, 2.0, 0.5)
