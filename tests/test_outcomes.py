"""What an edited frame comes to, on programs of every kind: an edit that changes nothing is the same, one that does
is not.
"""

from __future__ import annotations

import pytest

from wendascope.backends.contents import Store
from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.backends.opengl.session import OpenGLSession
from wendascope.frame.remedy import Remedy
from wendascope.tap.channel import FrameEnd
from wendascope.trials.proofs.outcomes import Outcomes, Variation, judge_remedies

from .conftest import Capture, program

pytestmark = pytest.mark.driver

PROGRAMS = {
    "everything": (),
    "fixed_function": (),
    "client_arrays": (),
    "multisample": (),
    "windows": (),
    "recycling": (),
    "stages": (),
    "mappings": (),
    "indirect": (),
    "gles": (),
    "moderngl_readback": (),
}


@pytest.mark.parametrize("name", PROGRAMS)
def test_an_edit_that_changes_nothing_is_the_same(capture: Capture, name: str) -> None:
    _, frame = capture(
        program(name, *PROGRAMS[name]), frame_end=FrameEnd.readback if "readback" in name else FrameEnd.swap
    )
    session = OpenGLSession(frame)
    try:
        found = Outcomes(session)
        assert not found.ground.trouble, found.ground.trouble
        outcome = found.judge([Variation(), Variation()])
        assert outcome.same and not outcome.rewritten, outcome
        assert found.overwritten, "at least the window is drawn anew"
        assert _some_draw_shows(session, frame)
    finally:
        session.close()


def test_counts_that_differ_now_and_then_are_no_change(capture: Capture, monkeypatch: pytest.MonkeyPatch) -> None:
    _, frame = capture(program("everything"))
    session, query = OpenGLSession(frame), Store("query", 1)
    try:
        found = Outcomes(session)
        assert found.overwritten
        found._returned.add(query)
        for later, left in ((set(), []), ({query}, ["query 1"])):
            answers = iter([{query}, {query}, later, later])
            monkeypatch.setattr(found, "_differing", lambda *_, answers=answers: next(answers))
            assert found.judge([Variation(), Variation()]).left_behind == left
    finally:
        session.close()


def _some_draw_shows(session: OpenGLSession, frame: OpenGLFrame) -> bool:
    """Some draw cannot be left out, nor drawn in other colours, without a difference on screen, in whatever window."""
    draws = [s for s in range(len(frame.steps)) if frame.steps.kind_name(s) in ("draw", "clear")]
    return any(judge_remedies(session, [Remedy("drop-steps", [s])]).pixels_different for s in draws[-8:])


def test_another_window_is_looked_at_as_well(capture: Capture) -> None:
    """Every window of the program shows its draws: what is left out in any of them is told as a changed picture."""
    _, frame = capture(program("windows"))
    session = OpenGLSession(frame)
    try:
        others = [
            s
            for s in range(len(frame.steps))
            if frame.passes.targets[int(frame.passes.of_step[s])].window and frame.steps.kind_name(s) == "draw"
        ]
        clears = [
            s
            for s in range(len(frame.steps))
            if frame.passes.targets[int(frame.passes.of_step[s])].window and frame.steps.kind_name(s) == "clear"
        ]
        assert others or clears
        outcome = judge_remedies(session, [Remedy("drop-steps", [(others or clears)[-1]])])
        assert outcome.pixels_different and not outcome.same
    finally:
        session.close()
