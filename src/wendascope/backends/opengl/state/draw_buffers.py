"""The buffers of a framebuffer that draws write: which are chosen, and which calls that choose them change nothing."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from wendascope.backends.opengl.state.state_table import DRAW_BUFFERS, PATTERNS
from wendascope.frame.numbers import Mask

if TYPE_CHECKING:
    from wendascope.backends.opengl.frame import OpenGLFrame


def draw_buffers(frame: OpenGLFrame, framebuffer: int, call: int) -> tuple[int, ...]:
    """The buffer that each colour goes to as a call finds it, none after the last; empty where it is not known."""
    found = frame.history.value("draw_buffers", call, framebuffer)
    if found is not None:
        return found
    if not framebuffer:
        chosen = [frame.default_framebuffer.draw_buffer] if not frame.context.es else []
    else:
        record = frame.objects.framebuffer(framebuffer)
        chosen = record.draw_buffers if record else []
    return tuple(chosen + [0] * (DRAW_BUFFERS - len(chosen)))[:DRAW_BUFFERS] if chosen else ()


def repeated_draw_buffers(frame: OpenGLFrame) -> Mask:
    """Calls that choose the buffers that are chosen already, shape (calls,). A widespread way to draw says so again
    before each group of draws.
    """
    repeats = np.zeros(len(frame.calls), bool)
    events = frame.history.events("draw_buffers")
    setters = PATTERNS["draw_buffers"].setters
    for key, call in zip((events.keys >> 32).tolist(), events.calls.tolist(), strict=True):
        if call >= 0 and frame.calls.command(call).canonical in setters:
            repeats[call] = draw_buffers(frame, key, call) == frame.history.value("draw_buffers", call + 1, key)
    return repeats
