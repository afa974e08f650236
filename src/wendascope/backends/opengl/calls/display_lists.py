"""Display lists and immediate mode: what they draw, counted from their calls."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt

from wendascope.backends.opengl.calls.packed import CallStream
from wendascope.registry import GL, Role

Ints = npt.NDArray[np.int64]

_DEEPEST = 64
_ELEMENT_TYPES = {
    GL.BYTE: np.int8, GL.UNSIGNED_BYTE: np.uint8, GL.SHORT: np.int16, GL.UNSIGNED_SHORT: np.uint16, GL.INT: np.int32,
    GL.UNSIGNED_INT: np.uint32, GL.FLOAT: np.float32,
}  # fmt: skip


@dataclass
class DisplayList:
    """What one list draws, lists that it calls included."""

    vertices: int = 0
    triangles: int = 0
    draws: int = 0
    modes: set[int] = field(default_factory=set)
    """Primitive modes of its draws."""


def display_lists(calls: CallStream, before: Mapping[int, DisplayList] | None = None) -> dict[int, DisplayList]:
    """Every list that a stream of calls makes, and those made `before` that it does not make anew."""
    ends = calls.calls_of("glEndList")
    spans = {}
    for first in calls.calls_of("glNewList").tolist():
        after = ends[ends > first]
        if len(after):
            spans[int(calls.argument(first, "list"))] = (first + 1, int(after[0]))
    found = {name: made for name, made in (before or {}).items() if name not in spans}
    for name in spans:
        _measure(calls, spans, name, found, 0)
    return found


def _measure(
    calls: CallStream, spans: dict[int, tuple[int, int]], name: int, found: dict[int, DisplayList], depth: int
) -> DisplayList:
    if name in found:
        return found[name]
    total = found[name] = DisplayList()
    if name not in spans or depth > _DEEPEST:
        return total
    first, end = spans[name]
    begin = -1
    for call in range(first, end):
        command = calls.command(call).name
        if command == "glBegin":
            begin = call
        elif command == "glEnd" and begin >= 0:
            vertices, triangles = count_vertices(calls, begin, call, {})
            total.modes.add(int(calls.argument(begin, "mode")))
            total.vertices, total.triangles, total.draws = (
                total.vertices + vertices,
                total.triangles + triangles,
                total.draws + 1,
            )
        elif command in ("glCallList", "glCallLists"):
            for inner in called_lists(calls, call):
                part = _measure(calls, spans, inner, found, depth + 1)
                total.vertices, total.triangles, total.draws = (
                    total.vertices + part.vertices,
                    total.triangles + part.triangles,
                    total.draws + part.draws,
                )
                total.modes |= part.modes
        elif calls.command(call).has(Role.DRAWS_IN_LIST):
            total.draws += 1
            names = {p.name: p for p in calls.command(call).parameters}
            if "mode" in names:
                total.modes.add(int(calls.argument(call, "mode")))
            if "count" in names and names["count"].kind != "pointer":
                count = int(calls.argument(call, "count"))
                total.vertices += count
                total.triangles += int(_triangles(int(calls.argument(call, "mode")), count))
    return total


def called_lists(calls: CallStream, call: int) -> list[int]:
    """Lists that a glCallList or glCallLists calls; the list base is taken as 0."""
    if calls.command(call).name == "glCallList":
        return [int(calls.argument(call, "list"))]
    data, kind = calls.argument(call, "lists"), _ELEMENT_TYPES.get(int(calls.argument(call, "type")))
    if not isinstance(data, bytes) or kind is None:
        return []
    return [
        int(v)
        for v in np.frombuffer(data[: len(data) // np.dtype(kind).itemsize * np.dtype(kind).itemsize], kind).tolist()
    ]


def drawn_modes(calls: CallStream, begin: int, end: int, known: Mapping[int, DisplayList]) -> set[int]:
    """Primitive modes of what a step draws: one draw, glBegin ... glEnd, a call of lists, or a list made and drawn at
    once.
    """
    name = calls.command(end).name
    if name in ("glCallList", "glCallLists"):
        return {mode for n in called_lists(calls, end) for mode in known.get(n, DisplayList()).modes}
    if name == "glEndList":
        return known.get(int(calls.argument(begin, "list")), DisplayList()).modes
    if name.startswith("glRect"):
        return {GL.POLYGON}
    if any(p.name == "mode" for p in calls.command(begin).parameters):
        return {int(calls.argument(begin, "mode"))}
    return set()


def count_vertices(calls: CallStream, begin: int, end: int, known: dict[int, DisplayList]) -> tuple[int, int]:
    """(vertices, triangles) of glBegin ... glEnd, of a call of lists, or of a list made and drawn at once."""
    name = calls.command(end).name
    if name in ("glCallList", "glCallLists"):
        parts = [known.get(n, DisplayList()) for n in called_lists(calls, end)]
        return sum(p.vertices for p in parts), sum(p.triangles for p in parts)
    if name == "glEndList":
        made = known.get(int(calls.argument(begin, "list")), DisplayList())
        return made.vertices, made.triangles
    count = sum(1 for call in range(begin + 1, end) if _is_vertex(calls, call))
    return count, _triangles(int(calls.argument(begin, "mode")), count)


def _is_vertex(calls: CallStream, call: int) -> bool:
    command = calls.command(call)
    if not command.has(Role.VERTEX):
        return False
    # a generic attribute is a vertex only where it is number 0
    return not command.name.startswith("glVertexAttrib") or int(calls.argument(call, "index")) == 0


def _triangles(mode: int, count: int) -> int:
    return int(triangles_of(np.array([mode]), np.array([count]), np.array([3]))[0])


def triangles_of(mode: Ints, count: Ints, patch: Ints) -> Ints:
    """Triangles that `count` vertices make in a primitive mode; 0 for points and lines. All shape (n,)."""
    result = np.zeros(len(mode), np.int64)
    for value, formula in (
        (GL.TRIANGLES, count // 3),
        (GL.TRIANGLE_STRIP, count - 2),
        (GL.TRIANGLE_FAN, count - 2),
        (GL.QUADS, count // 4 * 2),
        (GL.QUAD_STRIP, (count // 2 - 1) * 2),
        (GL.POLYGON, count - 2),
        (GL.TRIANGLES_ADJACENCY, count // 6),
        (GL.TRIANGLE_STRIP_ADJACENCY, count // 2 - 2),
        (GL.PATCHES, count // np.maximum(patch, 1)),
    ):
        result = np.where(mode == value, np.maximum(formula, 0), result)
    return result
