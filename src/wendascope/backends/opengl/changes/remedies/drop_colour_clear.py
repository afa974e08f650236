"""Leave the colour out of a clear; depth and stencil that the same call clears stay."""

from __future__ import annotations

from wendascope.backends.opengl.calls.packed import CallBatch
from wendascope.backends.opengl.changes.frame_change import FrameChange, lowers
from wendascope.frame.remedy import Remedy
from wendascope.registry import GL


@lowers("drop-colour-clear")
def drop_colour_clear(change: FrameChange, item: Remedy) -> None:
    """Clear without colour."""
    frame = change.frame
    for step in item.steps:
        call = int(frame.steps.call[step])
        batch = CallBatch()
        if frame.calls.command(call).name == "glClear":
            mask = int(frame.calls.argument(call, "mask")) & ~GL.COLOR_BUFFER_BIT
            if mask:
                batch.call("glClear", mask)
        change.replaced[call] = batch
