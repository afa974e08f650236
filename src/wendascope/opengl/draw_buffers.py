"""Calls that choose the buffers of a framebuffer that draws write: which of them change nothing."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from wendascope.frame.numbers import Mask
from wendascope.registry import GL

if TYPE_CHECKING:
    from wendascope.opengl.frame import OpenGLFrame

_PREFIXES = ("glDrawBuffer", "glNamedFramebufferDrawBuffer", "glFramebufferDrawBuffer")


def repeated_draw_buffers(frame: OpenGLFrame) -> Mask:
    """Calls of `glDrawBuffer` that choose the buffer that is chosen already, shape (calls,). A widespread way to draw
    says so again before each group of draws.
    """
    calls = frame.calls
    every, repeats = np.zeros(len(calls), bool), np.zeros(len(calls), bool)
    for command, rows in calls.by_command():
        if command.name.startswith(_PREFIXES):
            every[rows] = True
    known: dict[int, int | None] = {
        record.name: record.draw_buffers[0] if len(record.draw_buffers) == 1 else None
        for record in frame.objects.framebuffers
    }
    known[0] = frame.default_framebuffer.draw_buffer or None
    for call in np.flatnonzero(every).tolist():
        if calls.command(call).name != "glDrawBuffer":
            known.clear()  # several buffers, or of a framebuffer by name
            continue
        framebuffer = frame.history.number("framebuffer", call, GL.DRAW_FRAMEBUFFER)
        chosen = int(calls.argument(call, "buf"))
        repeats[call] = known.get(framebuffer) == chosen
        known[framebuffer] = chosen
    return repeats
