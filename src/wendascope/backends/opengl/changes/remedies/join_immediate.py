"""Several glBegin ... glEnd as one."""

from __future__ import annotations

import re

from wendascope.backends.opengl.calls.immediate import LISTS, joinable_runs
from wendascope.backends.opengl.calls.packed import CallBatch
from wendascope.backends.opengl.changes.frame_change import FrameChange, lowers
from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.errors import TrialError
from wendascope.frame.remedy import Remedy
from wendascope.registry import GL, Role

Key = tuple[str, int, int]
_FAMILY = re.compile(r"gl([A-Za-z]+?)\d?(?:u?[bsi]|[fd])?v?$")


@lowers("join-immediate")
def join_immediate(change: FrameChange, item: Remedy) -> None:
    """Keep the first glBegin and the last glEnd of each run. Raises TrialError."""
    runs = joinable_runs(change.frame)
    for part in item.parts:
        if not any(set(part.steps) <= set(run) for run in runs):
            raise TrialError("other state than that of vertices changes between the draws")
        modes = {_mode(change.frame, step) for step in part.steps}
        if len(modes) == 1 and modes <= set(LISTS):
            _drop_pairs(change, part.steps)
        else:
            _as_triangles(change, part.steps)


def _mode(frame: OpenGLFrame, step: int) -> int:
    return int(frame.calls.argument(int(frame.steps.begin[step]), "mode"))


def _drop_pairs(change: FrameChange, run: list[int]) -> None:
    steps = change.frame.steps
    for step in run[:-1]:
        change.put_in_place(int(steps.call[step]), CallBatch())
    for step in run[1:]:
        change.put_in_place(int(steps.begin[step]), CallBatch())


def _as_triangles(change: FrameChange, run: list[int]) -> None:
    """All vertices anew, as corners of triangles in the order they were drawn in."""
    frame = change.frame
    calls, steps = frame.calls, frame.steps
    first, last = int(steps.begin[run[0]]), int(steps.call[run[-1]])
    batch = CallBatch()
    batch.call("glBegin", GL.TRIANGLES)
    set_here: dict[Key, int] = {}
    emitted: dict[Key, int] = {}
    at = first + 1
    for step in run:
        corners: list[tuple[dict[Key, int], int]] = []
        for call in range(at, int(steps.call[step])):
            command = calls.command(call)
            if command.has(Role.PLAIN_VERTEX):
                corners.append((dict(set_here), call))
            elif command.has(Role.OF_VERTEX):
                set_here[_key(frame, call)] = call
        at = int(steps.call[step]) + 1
        for corner in _triangles(_mode(frame, step), len(corners)):
            attributes, vertex = corners[corner]
            _emit(batch, frame, attributes, emitted)
            batch.copy(calls, vertex)
    batch.call("glEnd")
    _emit(batch, frame, set_here, emitted)
    for call in range(first, last):
        change.put_in_place(call, CallBatch())
    change.put_in_place(last, batch)


def _emit(batch: CallBatch, frame: OpenGLFrame, attributes: dict[Key, int], emitted: dict[Key, int]) -> None:
    if emitted.keys() - attributes.keys():
        raise TrialError("an attribute is set between vertices, and what it was before is set outside of these draws")
    for key, call in attributes.items():
        if emitted.get(key) != call:
            batch.copy(frame.calls, call)
            emitted[key] = call


def _key(frame: OpenGLFrame, call: int) -> Key:
    """What a call sets: calls of one key replace each other."""
    calls = frame.calls
    command = calls.command(call)
    family = _FAMILY.match(re.sub(r"(ARB|EXT)$", "", command.name))
    name = family[1] if family else command.name
    if name == "MultiTexCoord":
        return "TexCoord", int(calls.argument(call, "target")), 0
    if name == "TexCoord":
        return "TexCoord", GL.TEXTURE0, 0
    if name == "Material":
        return "Material", int(calls.argument(call, "face")), int(calls.argument(call, "pname"))
    return name, 0, 0


def _triangles(mode: int, count: int) -> list[int]:
    """Corners, three for each triangle; the last of each is the one that flat shading takes its colour from."""
    if mode == GL.TRIANGLES:
        return list(range(count // 3 * 3))
    if mode == GL.POLYGON:
        return [k for i in range(1, count - 1) for k in (i, i + 1, 0)]
    if mode == GL.TRIANGLE_FAN:
        return [k for i in range(1, count - 1) for k in (0, i, i + 1)]
    return [k for i in range(count - 2) for k in ((i, i + 1, i + 2) if i % 2 == 0 else (i + 1, i, i + 2))]
