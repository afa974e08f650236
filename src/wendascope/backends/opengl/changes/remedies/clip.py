"""Blended steps drawn only where they change a colour: cut by the scissor, or left out where that is nowhere."""

from __future__ import annotations

from wendascope.backends.opengl.calls.packed import CallBatch
from wendascope.backends.opengl.changes.frame_change import FrameChange, lowers
from wendascope.backends.opengl.changes.states import is_on, scissor
from wendascope.frame.remedy import Remedy
from wendascope.registry import GL


@lowers("clip")
def clip(change: FrameChange, item: Remedy) -> None:
    """Each step within its box. Raises TrialError."""
    for step, box in zip(item.steps, item.boxes, strict=True):
        if box[0] >= box[2] or box[1] >= box[3]:
            change.leave_out(step)
        else:
            _clip(change, step, box)


def _clip(change: FrameChange, step: int, box: tuple[int, int, int, int]) -> None:
    frame, call = change.frame, int(change.frame.steps.begin[step])
    x0, y0, x1, y1 = box
    before, after = CallBatch(), CallBatch()
    x, y, width, height = scissor(frame, call)
    if is_on(frame, call, GL.SCISSOR_TEST):
        x0, y0, x1, y1 = max(x0, x), max(y0, y), min(x1, x + width), min(y1, y + height)
    else:
        before.call("glEnable", GL.SCISSOR_TEST)
        after.call("glDisable", GL.SCISSOR_TEST)
    before.call("glScissor", x0, y0, max(x1 - x0, 0), max(y1 - y0, 0))
    after.call("glScissor", x, y, width, height)
    change.enclose(step, before, after)
