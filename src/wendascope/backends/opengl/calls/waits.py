"""What calls that can block waited for."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from wendascope.registry import GL, Role

if TYPE_CHECKING:
    from wendascope.backends.opengl.frame import OpenGLFrame


def waited_for(frame: OpenGLFrame, call: int) -> str:
    """What a waiting call waits for, in words."""
    command = frame.calls.command(call)
    if not command.has(Role.WAITS):
        return "earlier work: the driver takes no more calls until some of it is done"
    for start, describe in _REASONS:
        if command.name.startswith(start):
            return describe(frame, call)
    return "earlier work"


def waits_anyway(frame: OpenGLFrame, call: int) -> bool:
    """Whether pixels are read into a buffer: software drivers draw all first, where others go on."""
    reads = frame.calls.command(call).name.startswith(("glRead", "glGetTex", "glGetnTex", "glGetCompressed"))
    return reads and frame.history.number("buffer", call, GL.PIXEL_PACK_BUFFER) != 0


def _fence(frame: OpenGLFrame, call: int) -> str:
    sync = int(frame.calls.argument(call, "sync"))
    fences = [
        c
        for c in frame.calls.calls_of("glFenceSync", "glFenceSyncAPPLE").tolist()
        if c < call and frame.calls.result(c) == sync
    ]
    return f"the fence of call {fences[-1]:,}, and all work before it" if fences else "a fence of an earlier frame"


def _query(frame: OpenGLFrame, call: int) -> str:
    query = int(frame.calls.argument(call, "id"))
    ends = [c for c in frame.calls.calls_of("glEndQuery", "glEndQueryARB", "glQueryCounter").tolist() if c < call]
    return f"the result of query {query}" + (", asked for in this frame" if ends else ", asked for in an earlier frame")


def _pixels(frame: OpenGLFrame, call: int) -> str:
    framebuffer = frame.history.number("framebuffer", call, GL.READ_FRAMEBUFFER)
    return "every draw into " + (f"framebuffer {framebuffer}" if framebuffer else "the window")


def _mapping(frame: OpenGLFrame, call: int) -> str:
    command = frame.calls.command(call)
    if any(p.name == "buffer" for p in command.parameters):
        buffer = int(frame.calls.argument(call, "buffer"))
    else:
        target = int(frame.calls.argument(call, "target"))
        buffer = frame.history.number("buffer", call, target)
        if target == GL.ELEMENT_ARRAY_BUFFER:
            array = frame.history.number("vertex_array", call)
            buffer = frame.history.number("element_buffer", call, array)
    return f"work that uses buffer {buffer}" if buffer else "work that uses the buffer"


_REASONS: tuple[tuple[str, Callable[[OpenGLFrame, int], str]], ...] = (
    ("glFinish", lambda _frame, _call: "all work so far"),
    ("glClientWaitSync", _fence),
    ("glWaitSync", _fence),
    ("glReadPixels", _pixels),
    ("glReadnPixels", _pixels),
    ("glGetQueryObject", _query),
    ("glMap", _mapping),
    ("glGetBufferSubData", _mapping),
    ("glGetNamedBufferSubData", _mapping),
    ("glGet", lambda _frame, _call: "work that writes the texture"),
)
