"""The calls of the frame after a captured one: recorded, kept, left out when asked, and not waited for when they do
not come.
"""

from __future__ import annotations

import os
import time
from pathlib import Path

import numpy as np
import pytest

from tests.conftest import load_opengl
from wendascope.backends.opengl.frame import opengl_frame
from wendascope.errors import TargetError
from wendascope.frame.file import save
from wendascope.tap.launch import Target, Trigger
from wendascope.tap.take import Collect

from .conftest import program

pytestmark = pytest.mark.driver


def _target(display: str, *command: str) -> Target:
    return Target(program(*command), environment={**os.environ, "DISPLAY": display})


def test_they_are_recorded_and_kept(small: Path, tmp_path: Path) -> None:
    frame = load_opengl(small)
    assert len(frame.following) == len(frame.calls), "the program draws alike in every frame"
    whole = frame.with_following
    assert len(whole.steps) == 2 * len(frame.steps) and (whole.steps.call[: len(frame.steps)] == frame.steps.call).all()
    assert frame.with_following is whole, "put together once"
    copy = tmp_path / "copy.wend"
    save(frame, copy)
    again = load_opengl(copy)
    assert np.array_equal(again.following.words, frame.following.words) and np.array_equal(
        again.following.arena, frame.following.arena
    )


def test_a_frame_without_them_is_itself(small: Path) -> None:
    from dataclasses import replace

    from wendascope.backends.opengl.calls.packed import merge_streams

    frame = replace(load_opengl(small), following=merge_streams([]))
    assert frame.with_following is frame


def test_they_are_left_out_when_asked_and_within_a_series(display: str) -> None:
    with _target(display, "shapes", "--frames", "60") as target:
        alone = opengl_frame(target.capture(Trigger(frame=5), 30.0, collect=Collect(following=False)))
        assert len(alone.following) == 0
        second = Trigger(frame=12)
        first = opengl_frame(target.capture(Trigger(frame=10), 30.0, then=second))
        assert len(first.following) == 0, "what follows is a frame of the series"
        assert len(opengl_frame(target.capture(second, 30.0)).following) > 0


def test_a_program_that_stops_drawing_is_not_waited_for(display: str) -> None:
    with _target(display, "troubled", "pauses") as target:
        started = time.monotonic()
        frame = opengl_frame(target.capture(Trigger(frame=19), 30.0))
        assert len(frame.following) == 0 and time.monotonic() - started < 15
        with pytest.raises(TargetError, match="ended with exit code 0"):
            while True:
                target.poll(0.05)
        assert target.output.tail.endswith("all frames drawn"), "it went on, though the frame after came late"


def test_threads_and_switches_are_told(small: Path) -> None:
    frame = load_opengl(small)
    assert all(beat.thread_ns > 0 for beat in frame.frame_statistics[1:])
    m = frame.metadata
    assert (
        m.thread_ns > 0
        and m.began_ns <= int(frame.calls.begin_ns[0])
        and m.began_ns + m.recorded_ns >= int(frame.calls.end_ns[-1])
    )
    lane = frame.cpu_lane
    assert lane.begin[0] >= 0 and lane.frame_ms == m.recorded_ns / 1e6
    assert lane.own_ms == pytest.approx(lane.frame_ms - lane.calls_ms - lane.waits_ms)
