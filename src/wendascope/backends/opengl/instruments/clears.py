"""What clears and blits write: they make no fragments, but cover what was there."""

from __future__ import annotations

from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.backends.opengl.state.tracker import signed32
from wendascope.registry import GL

_COLOUR_CLEARS = {"glClearBufferfv", "glClearBufferiv", "glClearBufferuiv"}


def written_rectangle(frame: OpenGLFrame, step: int, colour: bool) -> tuple[int, int, int, int] | None:
    """(x0, y0, x1, y1) that a clear or blit fills for certain, of colour or else of depth; None for nothing of the
    kind.
    """
    call = int(frame.steps.call[step])
    command = frame.calls.command(call).name
    target = frame.passes.targets[int(frame.passes.of_step[step])]
    whole = (0, 0, target.width, target.height)
    if command in ("glBlitFramebuffer", "glBlitFramebufferEXT"):
        mask = int(frame.calls.argument(call, "mask"))
        if not mask & (GL.COLOR_BUFFER_BIT if colour else GL.DEPTH_BUFFER_BIT):
            return None
        x = sorted(_signed(frame, call, name) for name in ("dstX0", "dstX1"))
        y = sorted(_signed(frame, call, name) for name in ("dstY0", "dstY1"))
        return _within(frame, call, (x[0], y[0], x[1], y[1]))
    if command == "glClear":
        mask = int(frame.calls.argument(call, "mask"))
        if colour:
            fills = bool(mask & GL.COLOR_BUFFER_BIT) and all(
                (frame.history.value("color_mask", call, 0) or (1,) * 4)[:3]
            )
        else:
            fills = bool(mask & GL.DEPTH_BUFFER_BIT) and bool(frame.history.number("depth_mask", call, missing=1))
        return _within(frame, call, whole) if fills else None
    if command in _COLOUR_CLEARS:
        wanted = GL.COLOR if colour else GL.DEPTH
        if int(frame.calls.argument(call, "buffer")) == wanted and _signed(frame, call, "drawbuffer") == 0:
            return _within(frame, call, whole)
    return None


def _signed(frame: OpenGLFrame, call: int, name: str) -> int:
    return signed32(int(frame.calls.argument(call, name)))


def _within(frame: OpenGLFrame, call: int, rectangle: tuple[int, int, int, int]) -> tuple[int, int, int, int]:
    """Cut by the scissor where that is on."""
    if not frame.history.number("scissor_test_enabled", call, 0):
        return rectangle
    x, y, width, height = (signed32(v) for v in frame.history.value("scissor", call, 0) or (0, 0, 0, 0))
    x0, y0, x1, y1 = rectangle
    return max(x0, x), max(y0, y), min(x1, x + width), min(y1, y + height)
