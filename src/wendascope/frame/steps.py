"""Steps: the calls of a frame that make the GPU work, with what can be counted without running them."""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from functools import cache

import numpy as np
import numpy.typing as npt

from wendascope.frame.packed import CallStream
from wendascope.frame.tracker import StateHistory
from wendascope.registry import GL, Command, tables

Ints = npt.NDArray[np.int64]

KINDS = ("draw", "clear", "dispatch", "blit", "copy", "mipmaps")
_KIND_PATTERNS = (
    ("draw", re.compile(r"gl(Multi)?Draw(Arrays|Elements|RangeElements|TransformFeedback|Mesh)")),
    ("clear", re.compile(r"glClear$|glClear(Named|)(Buffer(fv|iv|uiv|fi|Data|SubData)|Framebuffer)|glClearTex(Sub)?Image")),
    ("dispatch", re.compile(r"glDispatchCompute")),
    ("blit", re.compile(r"glBlit(Named)?Framebuffer")),
    ("copy", re.compile(r"glCopy(Tex|Image|Buffer|NamedBuffer|MultiTex|Pixels|TextureSub)")),
    ("mipmaps", re.compile(r"glGenerate(Texture|MultiTex)?Mipmap")),
)


@cache
def step_kind(name: str) -> str | None:
    """Kind of step a command is, or None for commands that only set things."""
    for kind, pattern in _KIND_PATTERNS:
        if pattern.match(name):
            return kind
    return None


@dataclass
class StepTable:
    """One row a step; every column is an array of shape (n,)."""

    call: Ints
    kind: npt.NDArray[np.uint8]  # index into KINDS
    vertices: Ints  # vertices submitted, instances included
    triangles: Ints
    instances: Ints
    program: Ints
    group: list[tuple[str, ...]] = field(default_factory=list)
    """Debug groups open at each step, outermost first."""

    def __len__(self) -> int:
        return len(self.call)

    def kind_name(self, step: int) -> str:
        return KINDS[int(self.kind[step])]


def derive_steps(calls: CallStream, history: StateHistory) -> StepTable:
    """Find the steps and count their vertices, triangles and instances."""
    commands = tables().commands
    used = np.unique(calls.ids)
    kinds = {i: KINDS.index(kind) for i in used.tolist() if (kind := step_kind(commands[i].name)) is not None}
    where = np.flatnonzero(np.isin(calls.ids, list(kinds)))
    kind_of = np.array([kinds[i] for i in calls.ids[where].tolist()], np.uint8)
    vertices = np.zeros(len(where), np.int64)
    triangles, instances = vertices.copy(), vertices.copy()
    for command_id in np.unique(calls.ids[where]).tolist():
        rows = np.flatnonzero(calls.ids[where] == command_id)
        if KINDS[kinds[command_id]] == "draw":
            count = _counts(calls, history, commands[command_id], where[rows])
            vertices[rows], triangles[rows], instances[rows] = count
    program = history.column("program", where)
    return StepTable(where, kind_of, vertices, triangles, instances, program, debug_groups(calls, where))


def _counts(calls: CallStream, history: StateHistory, command: Command, where: Ints) -> tuple[Ints, Ints, Ints]:
    names = {p.name: p for p in command.parameters}
    mode = calls.column(where, names["mode"].slot).astype(np.int64)
    many = next((names[n] for n in ("instancecount", "primcount") if n in names and "Multi" not in command.name), None)
    instances = calls.column(where, many.slot).astype(np.int64) if many else np.ones(len(where), np.int64)
    patch = history.column("patch_parameter", where, GL.PATCH_VERTICES, missing=3)
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
