"""Positions of steps that no program transforms, by one that stands in: held against what the steps really draw."""

from __future__ import annotations

import numpy as np
import pytest

from tests.conftest import load_opengl
from wendascope.backends.edit import Edit
from wendascope.backends.opengl.calls.display_lists import display_lists, drawn_modes
from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.backends.opengl.session import OpenGLSession
from wendascope.measure.drawn import measure_drawn
from wendascope.measure.overdraw import geometry_of
from wendascope.registry import GL
from wendascope.replay.progress import Job

from .conftest import Capture, program

pytestmark = pytest.mark.driver
_NO_VERTICES = ("glBitmap", "glDrawPixels")


def _up_to(session: OpenGLSession, call: int) -> np.ndarray:
    session.run(session.prepare(Edit(keep_until=call)))
    return session.final_picture().pixels


def _draws(frame: OpenGLFrame) -> list[int]:
    """Steps of triangles alone."""
    lists = display_lists(frame.calls, display_lists(frame.lists))
    found = []
    for step in range(len(frame.steps)):
        begin, call = int(frame.steps.begin[step]), int(frame.steps.call[step])
        modes = drawn_modes(frame.calls, begin, call, lists)
        if modes and not modes & {GL.POINTS, GL.LINES, GL.LINE_STRIP, GL.LINE_LOOP}:
            found.append(step)
    return found


@pytest.mark.parametrize("name", ["fixed_function", "client_arrays"])
def test_what_a_step_changes_lies_where_its_positions_are(capture: Capture, name: str) -> None:
    path, _ = capture(program(name))
    session = OpenGLSession(load_opengl(path))
    frame = session.frame
    geometry = geometry_of(session, Job())
    drawn = measure_drawn(session, Job())
    held = 0
    for step in _draws(frame):
        clip = geometry.positions.clip.get(step)
        assert clip is not None, (step, geometry.positions.caveats)
        assert len(clip) == int(frame.steps.triangles[step])
        before, after = (_up_to(session, int(c)) for c in (frame.steps.begin[step], frame.steps.call[step] + 1))
        rows, columns = np.nonzero((before != after).any(axis=2))
        box = drawn.steps[step].box
        if len(rows) == 0 or box is None:
            continue
        held += 1
        assert box[0] <= columns.min() and columns.max() < box[2], (step, box)
        assert box[1] <= rows.min() and rows.max() < box[3], (step, box)
        assert drawn.steps[step].fragments >= len(rows)
        assert drawn.steps[step].covered >= drawn.steps[step].fragments
    assert held >= 2
    assert not any("vertex stage" in caveat for caveat in drawn.caveats)
    session.close()


def test_lists_tell_what_they_draw(capture: Capture) -> None:
    _, frame = capture(program("fixed_function"))
    assert isinstance(frame, OpenGLFrame)
    known = display_lists(frame.calls, display_lists(frame.lists))
    assert any(made.modes == {GL.QUADS} for made in known.values())
    assert any(not made.modes and made.draws for made in known.values()), "one of bitmaps has no vertices"
