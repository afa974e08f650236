"""Steps: the calls of a frame that make the GPU work, with what can be counted without running them."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from wendascope.backends.opengl.calls.display_lists import (
    DisplayList,
    called_lists,
    count_vertices,
    display_lists,
    triangles_of,
)
from wendascope.backends.opengl.calls.packed import CallStream
from wendascope.backends.opengl.state.tracker import StateHistory
from wendascope.frame.steps import KINDS, StepTable
from wendascope.registry import GL, STEPS, Command, Role, tables

Ints = npt.NDArray[np.int64]

_ROLES = (Role.DRAW, Role.CLEAR, Role.DISPATCH, Role.BLIT, Role.COPY, Role.MIPMAPS)
"""The role that makes a call a step of each kind."""


def derive_steps(calls: CallStream, history: StateHistory, lists: CallStream) -> StepTable:
    """Find the steps and count their vertices, triangles and instances. `lists` are the display lists made before."""
    commands = tables().commands
    where = np.flatnonzero(calls.having(STEPS))
    known: dict[int, DisplayList] = {}
    begin = where.copy()
    if len(calls.calls_of("glEnd", "glEndList", "glCallList", "glCallLists")):
        known = display_lists(calls, display_lists(lists))
        where, begin = _whole_steps(calls, where, known)
    kind_of = np.full(len(where), KINDS.index("draw"), np.uint8)
    for kind, role in enumerate(_ROLES):
        kind_of[calls.having(role)[where]] = kind
    vertices = np.zeros(len(where), np.int64)
    triangles, instances = vertices.copy(), vertices.copy()
    for command_id in np.unique(calls.ids[where]).tolist():
        rows = np.flatnonzero(calls.ids[where] == command_id)
        command = commands[command_id]
        if kind_of[rows[0]] != KINDS.index("draw"):
            continue
        if command.name in _IN_SEVERAL_CALLS:
            for row in rows.tolist():
                vertices[row], triangles[row] = count_vertices(calls, int(begin[row]), int(where[row]), known)
            instances[rows] = 1
        elif command.name.startswith(("glRect", "glBitmap", "glDrawPixels", "glEvalMesh")):
            vertices[rows], triangles[rows], instances[rows] = 4, 2, 1
        else:
            vertices[rows], triangles[rows], instances[rows] = _counts(calls, history, command, where[rows])
    program = history.column("program", where)
    return StepTable(where, begin, kind_of, vertices, triangles, instances, program, debug_groups(calls, where))


_IN_SEVERAL_CALLS = ("glEnd", "glCallList", "glCallLists", "glEndList")


def _whole_steps(calls: CallStream, where: Ints, known: dict[int, DisplayList]) -> tuple[Ints, Ints]:
    """(last call, first call) of each step where immediate mode and display lists are used.

    What stands between glBegin and glEnd is one step, and so is a list that is drawn while it is made; what only
    goes into a list is none, and neither is calling a list that draws nothing.
    """
    begin = where.copy()
    kept = np.ones(len(where), bool)
    begins = calls.calls_of("glBegin")
    names = [calls.command(c).name for c in where.tolist()]
    for row, name in enumerate(names):
        if name == "glEnd":
            at = int(np.searchsorted(begins, where[row])) - 1
            begin[row] = begins[at] if at >= 0 else where[row]
        elif name in ("glCallList", "glCallLists"):
            kept[row] = any(known[n].draws for n in called_lists(calls, int(where[row])) if n in known)
    last, first = where[kept].tolist(), begin[kept].tolist()
    news, ends = calls.calls_of("glNewList").tolist(), calls.calls_of("glEndList").tolist()
    made = [(n, next((e for e in ends if e > n), len(calls) - 1)) for n in news]
    rows = []
    for a, b in zip(first, last, strict=True):
        if not any(n < a < e for n, e in made):
            rows.append((a, b))
    for n, e in made:
        if int(calls.argument(n, "mode")) == GL.COMPILE_AND_EXECUTE and any(n < b < e for b in last):
            rows.append((n, e))
    rows.sort(key=lambda row: row[1])
    return np.array([b for _, b in rows], np.int64), np.array([a for a, _ in rows], np.int64)


def _counts(calls: CallStream, history: StateHistory, command: Command, where: Ints) -> tuple[Ints, Ints, Ints]:
    names = {p.name: p for p in command.parameters}
    mode = calls.column(where, names["mode"].slot).astype(np.int64)
    many = next((names[n] for n in ("instancecount", "primcount") if n in names and "Multi" not in command.name), None)
    instances = calls.column(where, many.slot).astype(np.int64) if many else np.ones(len(where), np.int64)
    patch = history.column("patch_parameter", where, GL.PATCH_VERTICES, missing=3)
    if "indirect" in names:
        return _indirect_counts(calls, command, where, mode, patch)
    if "count" not in names:
        zeros = np.zeros(len(where), np.int64)
        return zeros, zeros, zeros
    if names["count"].kind != "pointer":
        count = calls.column(where, names["count"].slot).astype(np.int64)
        return count * instances, triangles_of(mode, count, patch) * instances, instances
    vertices = np.zeros(len(where), np.int64)
    triangles = vertices.copy()
    for row, call in enumerate(where.tolist()):
        data = calls.argument(call, "count")
        counts = np.frombuffer(data, np.int32).astype(np.int64) if isinstance(data, bytes) else np.zeros(0, np.int64)
        vertices[row] = counts.sum()
        triangles[row] = triangles_of(np.full(len(counts), mode[row]), counts, np.full(len(counts), patch[row])).sum()
    return vertices, triangles, instances


def _indirect_counts(
    calls: CallStream, command: Command, where: Ints, mode: Ints, patch: Ints
) -> tuple[Ints, Ints, Ints]:
    """Counts that the tap read from client memory or the indirect buffer at the moment of the draw."""
    vertices = np.zeros(len(where), np.int64)
    triangles, instances = vertices.copy(), vertices.copy()
    width = 5 if "Elements" in command.name else 4
    notes = calls.calls_of("wendaIndirect")
    for row, call in enumerate(where.tolist()):
        before = int(np.searchsorted(notes, call)) - 1
        data = calls.argument(int(notes[before]), "data") if before >= 0 and notes[before] == call - 1 else None
        if not isinstance(data, bytes):
            continue
        rows = (
            np.frombuffer(data[: len(data) // (4 * width) * 4 * width], np.uint32).reshape(-1, width).astype(np.int64)
        )
        count, many = rows[:, 0], rows[:, 1]
        vertices[row] = (count * many).sum()
        triangles[row] = (
            triangles_of(np.full(len(count), mode[row]), count, np.full(len(count), patch[row])) * many
        ).sum()
        instances[row] = many.sum()
    return vertices, triangles, instances


_PUSH = ("glPushDebugGroup", "glPushDebugGroupKHR", "glPushGroupMarkerEXT")
_POP = ("glPopDebugGroup", "glPopDebugGroupKHR", "glPopGroupMarkerEXT")


def debug_groups(calls: CallStream, where: Ints) -> list[tuple[str, ...]]:
    """The names of the debug groups open at each of the calls `where`, outermost first."""
    pushes = set(calls.calls_of(*_PUSH).tolist())
    marks = np.sort(np.concatenate([np.array(sorted(pushes), np.int64), calls.calls_of(*_POP)]))
    stacks: list[tuple[str, ...]] = [()]
    for call in marks.tolist():
        stack = stacks[-1]
        if call in pushes:
            stacks.append((*stack, _group_name(calls, call)))
        else:
            stacks.append(stack[:-1])
    return [stacks[i] for i in np.searchsorted(marks, where).tolist()]


def _group_name(calls: CallStream, call: int) -> str:
    name = next(p.name for p in calls.command(call).parameters if p.kind == "pointer")
    data = calls.argument(call, name)
    return data.split(b"\0", 1)[0].decode("utf-8", "replace").strip() if isinstance(data, bytes) else "group"
