"""What a clear replaces, whatever was there before."""

from __future__ import annotations

from typing import TYPE_CHECKING

from wendascope.backends.opengl.state.tracker import signed32
from wendascope.registry import GL

if TYPE_CHECKING:
    from wendascope.backends.opengl.frame import OpenGLFrame

Rectangle = tuple[int, int, int, int]
"""x0, y0, x1, y1: from the lower left corner, ends left out."""
_DEPTH, _STENCIL = GL.DEPTH_ATTACHMENT, GL.STENCIL_ATTACHMENT


def cleared_points(frame: OpenGLFrame, step: int) -> dict[int, Rectangle | None]:
    """Attachment points that a clear touches: the rectangle in which it replaces all of the image, or None where it
    may replace a part of it only. Clears of other commands than glClear count as parts of everything.
    """
    call, history = int(frame.steps.call[step]), frame.history
    if frame.calls.command(call).name != "glClear" or history.number("capability", call, GL.RASTERIZER_DISCARD) == 1:
        return dict.fromkeys((*range(GL.COLOR_ATTACHMENT0, GL.COLOR_ATTACHMENT0 + 16), _DEPTH, _STENCIL))
    mask = int(frame.calls.argument(call, "mask"))
    target = frame.passes.targets[int(frame.passes.of_step[step])]
    place = _within_scissor(frame, call, (0, 0, target.width, target.height))
    points: dict[int, Rectangle | None] = {}
    if mask & GL.COLOR_BUFFER_BIT:
        # with several colour attachments the draw buffers decide; only the plain case is followed
        colours = [a.point for a in target.attachments if a.point not in (_DEPTH, _STENCIL)] or [GL.COLOR_ATTACHMENT0]
        written = all(v == 1 for v in history.value("color_mask", call, 0) or (0,))
        for point in colours:
            points[point] = place if written and colours == [GL.COLOR_ATTACHMENT0] else None
    if mask & GL.DEPTH_BUFFER_BIT:
        points[_DEPTH] = place if history.value("depth_mask", call) == (1,) else None
    if mask & GL.STENCIL_BUFFER_BIT:
        written = history.number("stencil_mask", call, GL.FRONT) & 0xFF == 0xFF
        points[_STENCIL] = place if written else None
    return points


def _within_scissor(frame: OpenGLFrame, call: int, whole: Rectangle) -> Rectangle | None:
    """What the first scissor leaves of the target; None where it is not known, or where others are on."""
    history = frame.history
    if any(history.value("scissor_test_enabled", call, i) == (1,) for i in range(1, 16)):
        several = {history.value("scissor", call, i) for i in range(16)} - {None}
        if len(several) > 1:
            return None
    if history.value("scissor_test_enabled", call, 0) != (1,):
        return whole
    found = history.value("scissor", call, 0)
    if found is None:
        return None
    x, y, width, height = (signed32(v) for v in found)
    return max(x, 0), max(y, 0), min(x + width, whole[2]), min(y + height, whole[3])
