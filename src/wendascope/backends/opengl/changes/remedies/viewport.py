"""Draw into less of the target: one pixel of it, or a half or a quarter of its width and height."""

from __future__ import annotations

from collections.abc import Callable

from wendascope.backends.opengl.calls.packed import CallBatch
from wendascope.backends.opengl.changes.frame_change import FrameChange, lowers
from wendascope.backends.opengl.changes.states import integers, is_on, viewport
from wendascope.backends.opengl.state.tracker import signed32
from wendascope.frame.remedy import Remedy
from wendascope.registry import GL


@lowers("tiny-viewport")
def tiny_viewport(change: FrameChange, item: Remedy) -> None:
    """Draw the steps into a single pixel."""
    for step in item.steps:
        _draw_into(change, step, lambda v: (v[0], v[1], 1, 1))


@lowers("smaller-viewport")
def smaller_viewport(change: FrameChange, item: Remedy) -> None:
    """What is drawn lies in the lower left corner then: a look at the time, not a better picture."""
    for step in item.steps:
        _draw_into(change, step, lambda v: (v[0], v[1], max(v[2] // item.divide, 1), max(v[3] // item.divide, 1)))


def _draw_into(
    change: FrameChange, step: int, smaller: Callable[[tuple[int, int, int, int]], tuple[int, int, int, int]]
) -> None:
    frame = change.frame
    call = int(frame.steps.call[step])
    whole = viewport(frame, call)
    before, after = CallBatch(), CallBatch()
    before.call("glViewport", *smaller(whole))
    after.call("glViewport", *whole)
    if is_on(frame, call, GL.SCISSOR_TEST):
        x, y, width, height = (signed32(v) for v in integers(frame, "scissor", call))
        share = smaller((0, 0, 1 << 20, 1 << 20))
        wanted = [whole[0] + (x - whole[0]) * share[2] // (1 << 20), whole[1] + (y - whole[1]) * share[3] // (1 << 20)]
        before.call("glScissor", *wanted, max(width * share[2] >> 20, 1), max(height * share[3] >> 20, 1))
        after.call("glScissor", x, y, width, height)
    change.enclose(step, before, after)
