"""Calls that waited while the frame was recorded, and what each of them waited for."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from wendascope.frame.cpu import cpu_lane, is_wait
from wendascope.registry import GL

if TYPE_CHECKING:
    from wendascope.frame.frame import Frame

_SHORTEST_MS = 0.05
"""Waits shorter than this are left out."""


@dataclass(frozen=True)
class Wait:
    call: int
    command: str
    ms: float
    what: str


def waits(frame: Frame) -> list[Wait]:
    """Every call that waited noticeably, longest first."""
    lane = cpu_lane(frame.calls)
    rows = np.flatnonzero(lane.waits & (lane.duration >= _SHORTEST_MS))
    found = []
    for call in rows.tolist():
        command = frame.calls.command(call).name
        found.append(Wait(call, command, float(lane.duration[call]), waited_for(frame, call, command)))
    return sorted(found, key=lambda wait: -wait.ms)


def waited_for(frame: Frame, call: int, command: str) -> str:
    """What a waiting call waits for, in words."""
    if not is_wait(command):
        return "earlier work: the driver takes no more calls until some of it is done"
    for start, describe in _REASONS:
        if command.startswith(start):
            return describe(frame, call)
    return "earlier work"


def _fence(frame: Frame, call: int) -> str:
    sync = int(frame.calls.argument(call, "sync"))
    fences = [c for c in frame.calls.calls_of("glFenceSync", "glFenceSyncAPPLE").tolist() if c < call and frame.calls.result(c) == sync]
    return f"the fence of call {fences[-1]:,}, and all work before it" if fences else "a fence of an earlier frame"


def _query(frame: Frame, call: int) -> str:
    query = int(frame.calls.argument(call, "id"))
    ends = [c for c in frame.calls.calls_of("glEndQuery", "glEndQueryARB", "glQueryCounter").tolist() if c < call]
    return f"the result of query {query}" + (", asked for in this frame" if ends else ", asked for in an earlier frame")


def _pixels(frame: Frame, call: int) -> str:
    framebuffer = (frame.history.value("framebuffer", call, GL.READ_FRAMEBUFFER) or (0,))[0]
    return "every draw into " + (f"framebuffer {framebuffer}" if framebuffer else "the window")


def _mapping(frame: Frame, call: int) -> str:
    command = frame.calls.command(call)
    if any(p.name == "buffer" for p in command.parameters):
        buffer = int(frame.calls.argument(call, "buffer"))
    else:
        target = int(frame.calls.argument(call, "target"))
        buffer = (frame.history.value("buffer", call, target) or (0,))[0]
        if target == GL.ELEMENT_ARRAY_BUFFER:
            array = (frame.history.value("vertex_array", call) or (0,))[0]
            buffer = (frame.history.value("element_buffer", call, array) or (0,))[0]
    return f"work that uses buffer {buffer}" if buffer else "work that uses the buffer"


_REASONS: tuple[tuple[str, Callable[[Frame, int], str]], ...] = (
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
