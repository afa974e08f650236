"""Companies: steps that could be drawn together, how, and at what price; and loners, with the reason.

Copies (one geometry, other values) become instances; kin (other geometry) are merged, or drawn by one multi-draw where
nothing but the range differs; near kin (other textures of one shape) need a texture array first.
"""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any

import msgspec
import numpy as np
import numpy.typing as npt

from wendascope.analysis.sharing import Sharing
from wendascope.analysis.yardsticks import BatchYardsticks, yardsticks
from wendascope.frame.glsl_globals import UnclearSourceError
from wendascope.frame.offers import Offers
from wendascope.frame.setting_values import combined
from wendascope.frame.std140 import fits, struct_layout
from wendascope.frame.uniform_blocks import block_layout
from wendascope.frame.uniform_values import variable_of
from wendascope.frame.vertex_inputs import VertexInput
from wendascope.registry import GL

Ints = npt.NDArray[np.int64]

INSTANCE, MERGE, MULTI_DRAW = "instance", "merge", "multi-draw"


class Company(msgspec.Struct):
    """Steps that could be drawn together. Bytes are of graphics memory."""

    number: int
    pass_index: int
    how: str
    """`instance`, `merge` or `multi-draw`."""
    steps: list[int]
    parts: list[list[int]]
    """What each draw would hold: more than one where a limit splits the company."""
    program: int
    varies: list[str]
    """Uniforms and blocks that differ from step to step, and become data of each draw."""
    samplers: list[str]
    """Samplers whose textures differ, and would read a texture array."""
    page: bool
    """Whether those textures differ in size, and would lie on an atlas page instead."""
    textures: int
    """Different textures that it reads through them."""
    in_order: bool
    """Whether its steps follow each other, so that nothing changes places."""
    vertices: int
    """Vertices of one copy for instances, else of all together."""
    bytes_before: int
    """Of the vertices that the steps read now."""
    bytes_after: int
    """Of the merged vertices and the data of each draw."""
    data_bytes: int
    """Data of each draw, for one step."""
    limits: list[str]
    """What splits it, in words."""
    caveats: list[str]

    @property
    def saved(self) -> int:
        return len(self.steps) - len(self.parts)

    @property
    def label(self) -> str:
        return f"company {self.number + 1}"


@dataclass
class Companies:
    companies: list[Company]
    loners: dict[str, list[int]] = field(default_factory=dict)
    """Reason -> draws that nothing can be drawn together with."""
    of_step: Ints = field(default_factory=lambda: np.zeros(0, np.int64))
    """Company of each step; -1 for none."""

    @property
    def saved(self) -> int:
        return sum(c.saved for c in self.companies)


def find_companies(sharing: Sharing, measure: BatchYardsticks | None = None) -> Companies:
    """Group the draws of a frame. Needs no replay and no times."""
    return _Finder(sharing, measure or yardsticks().batches).find()


class _Finder:
    def __init__(self, sharing: Sharing, measure: BatchYardsticks) -> None:
        self._sharing = sharing
        self._measure = measure
        self._vertices = np.asarray(sharing.frame.steps.vertices, np.int64)
        self._offers = Offers(sharing.frame.context)
        self._passes = np.asarray(sharing.frame.passes.of_step, np.int64)
        self._block = measure.uniform_block_bytes
        self._fetched_known: dict[int, tuple[int, int]] = {}
        self._data_known: dict[tuple[object, ...], int] = {}
        self._buffers = {b.name: b.size for b in sharing.frame.objects.buffers}

    def find(self) -> Companies:
        sharing = self._sharing
        found: list[Company] = []
        of_step = np.full(len(sharing.calls), -1, np.int64)
        groups = list(self._groups())
        self._compare([steps for _, steps, _ in groups])
        for group, (how, steps, textures) in enumerate(groups):
            company = self._company(len(found), group, how, steps, textures)
            if company.saved > 0:
                found.append(company)
                of_step[steps] = company.number
        return Companies(found, self._loners(of_step), of_step)

    # ---- who belongs together -------------------------------------------------------------------------

    def _groups(self) -> Iterator[tuple[str, Ints, str]]:
        """(how, steps, how their textures differ: `same`, `shape` when they could be layers, `size` when not), as they come."""
        sharing = self._sharing
        groups: list[tuple[str, Ints, str]] = []
        usable = sharing.draws & (sharing.frame.steps.program > 0) & (np.asarray(sharing.frame.steps.begin) == sharing.calls)
        texture = sharing.columns["texture"]
        for family in _classes(sharing.family(ordered=True), np.flatnonzero(usable)):
            if _same(texture[family]):
                groups += [(how, steps, "same") for how, steps in self._kin(family)]
                continue
            left = np.ones(len(family), bool)
            for shape in _classes(sharing.texture_shapes, family):
                near = not _same(texture[shape])
                parts = [shape] if not near or self._plain_textures(shape) else _classes(texture, shape)
                for part in parts:
                    for how, steps in self._kin(part):
                        groups.append((how, steps, "shape" if near and len(parts) == 1 else "same"))
                        left[np.searchsorted(family, steps)] = False
            if int(left.sum()) > 1:
                # what no other texture of its size goes with: on a page, where formats are alike
                for alike in _classes(sharing.texture_looks, family[left]):
                    if len(alike) > 1 and not _same(texture[alike]) and self._plain_textures(alike):
                        groups += [(how, steps, "size") for how, steps in self._kin(alike)]
        groups.sort(key=lambda group: int(group[1][0]))
        yield from groups

    def _kin(self, steps: Ints) -> Iterator[tuple[str, Ints]]:
        """Copies as instances where there are enough of them, the others merged."""
        if len(steps) < 2:
            return
        sharing, measure = self._sharing, self._measure
        _, which, counts = np.unique(sharing.geometry[steps], return_inverse=True, return_counts=True)
        bare = not self._inputs(int(steps[0]))  # vertices made up by the shader cannot be merged
        many = counts[which] >= (2 if bare else measure.least_copies)
        single = sharing.frame.steps.instances[steps] == 1
        large = (self._vertices[steps] >= measure.least_instance_vertices) | (sharing.primitive[steps] > 2) | bare
        alone = len(counts) == 1 and len(steps) >= 2 and bool(large.all())
        copies = (many | alone) & large & single
        for group in _classes(sharing.geometry, steps[copies]):
            yield INSTANCE, group
        rest = steps[~copies & single & (sharing.primitive[steps] <= 2)]
        if len(rest) > 1:
            yield (MULTI_DRAW if self._one_range_each(rest) else MERGE), rest

    def _plain_textures(self, steps: Ints) -> bool:
        """Whether all samplers that differ read two-dimensional textures, which arrays can be made of."""
        program = int(self._sharing.frame.steps.program[steps[0]])
        for use in self._sharing.samplers:
            if use.program == program and use.target != GL.TEXTURE_2D and not _same(use.textures[np.searchsorted(use.steps, steps)]):
                return False
        return True

    def _one_range_each(self, steps: Ints) -> bool:
        """Whether the steps differ in nothing but the range that they draw of the same buffers."""
        sharing = self._sharing
        if not self._offers("glMultiDrawElements"):
            return False
        arrays, _ = sharing.arrays
        if not (_same(arrays[steps]) and all(_same(sharing.columns[name][steps]) for name in ("uniform", "texture", "block"))):
            return False
        calls = sharing.frame.calls
        names = {calls.command(int(c)).name for c in sharing.calls[steps]}
        if len(names) > 1 or not names <= {"glDrawArrays", "glDrawElements", "glDrawElementsBaseVertex", "glDrawRangeElements"}:
            return False
        return len({int(calls.argument(int(c), "mode")) for c in sharing.calls[steps]}) == 1

    # ---- what it would take --------------------------------------------------------------------------

    def _company(self, number: int, group: int, how: str, steps: Ints, differ: str) -> Company:
        sharing = self._sharing
        near = differ != "same"
        program = int(sharing.frame.steps.program[steps[0]])
        varies = self._differing("uniform", program, group)
        blocks = self._differing("block", program, group)
        samplers = self._differing("texture", program, group) if near else []
        textures = len(set(sharing.columns["texture"][steps].tolist())) if near else 1
        data = self._data_bytes(program, varies, samplers, differ == "size") + self._block_bytes(program, blocks) if how != MULTI_DRAW else 0
        inputs = self._inputs(int(steps[0]))
        vertex_bytes = sum((a.bytes + 3) // 4 * 4 for a in inputs) if how == MERGE else 0
        vertices = self._vertices[steps]
        parts, limits = self._parts(how, steps, data, textures if differ == "shape" else 0)
        before = self._bytes_read(steps)
        merged = sum(count * self._held_by(step) for step, count in self._different(steps)) * (vertex_bytes + 4) + 2 * int(vertices.sum()) if how == MERGE else 0
        after = (before if how != MERGE else merged) + data * len(steps)
        caveats = []
        if how == INSTANCE and inputs and vertices[0] < self._measure.tiny_mesh:
            caveats.append(f"only {int(vertices[0])} vertices an instance: merging may be faster on some devices")
        if how == MERGE and varies:
            caveats.append("what moves by itself costs no more: its values stay data of each draw")
        if how == MERGE and merged > 4 * before:
            caveats.append("merged copies of a mesh cost memory; instances do not")
        if how == MERGE and self._written(steps):
            caveats.append("the frame writes their vertices: they are filled into one buffer each frame")
        if differ == "size":
            caveats.append("on a page coordinates are rounded anew, and small levels of neighbours run into each other: the picture may change a little")
        if not _consecutive(steps):
            caveats.append("other steps lie between them and change places with them: equal depths may come out otherwise")
        return Company(
            number, int(self._passes[steps[0]]), how, steps.tolist(), [part.tolist() for part in parts], program, [*varies, *(f"block {name}" for name in blocks)], samplers, differ == "size", textures,
            _consecutive(steps), int(vertices[0]) if how == INSTANCE else int(vertices.sum()), before, after, data, limits, caveats,
        )  # fmt: skip

    def _compare(self, groups: list[Ints]) -> None:
        """Find for every group at once in what its steps differ."""
        self._differs: dict[int, list[tuple[str, str, npt.NDArray[np.bool_]]]] = {}
        if not groups:
            return
        order = np.concatenate(groups)
        sizes = np.array([len(steps) for steps in groups])
        starts = np.concatenate([[0], np.cumsum(sizes)[:-1]])
        for detail in self._sharing.details:
            whole = np.zeros(len(self._sharing.calls), np.uint64)
            whole[detail.steps] = detail.numbers
            values = whole[order]
            flags = np.logical_or.reduceat(values != np.repeat(values[starts], sizes), starts)
            self._differs.setdefault(detail.program, []).append((detail.aspect, detail.name, flags))

    def _differing(self, aspect: str, program: int, group: int) -> list[str]:
        """Names of what differs between the steps of a group."""
        return list(dict.fromkeys(name for of, name, flags in self._differs.get(program, []) if of == aspect and flags[group]))

    def _block_bytes(self, program: int, blocks: list[str]) -> int:
        """What blocks that differ take as data of each draw; blocks that cannot be taken apart are not counted."""
        total = 0
        for name in blocks:
            with contextlib.suppress(UnclearSourceError):
                total += block_layout(self._sharing.programs[program], name).bytes
        return total

    def _data_bytes(self, program: int, varies: list[str], samplers: list[str], page: bool) -> int:
        key = (program, page, *varies, *samplers)
        if key not in self._data_known:
            self._data_known[key] = self._data_of(program, varies, samplers, page)
        return self._data_known[key]

    def _data_of(self, program: int, varies: list[str], samplers: list[str], page: bool) -> int:
        record = self._sharing.programs[program]
        variables = {variable_of(name) for name in varies}  # a structure becomes data as a whole
        members = [
            ("", u.type, u.size, u.name.endswith("[0]")) for u in record.uniforms if variable_of(u.name) in variables and fits(u.type)
        ]
        members += [("", GL.FLOAT_VEC4 if page else GL.INT, 1, False)] * len(samplers)
        return struct_layout(members)[1] if members else 0

    def _inputs(self, step: int) -> list[VertexInput]:
        which, inputs = self._sharing.arrays
        return inputs[int(which[step])]

    def _bytes_read(self, steps: Ints) -> int:
        """Of every different piece of geometry, the vertices that are read, at most what its buffers hold."""
        total = 0
        for step, _ in self._different(steps):
            total += self._fetched(step)[0] * self._held_by(step)
        return total

    def _different(self, steps: Ints) -> list[tuple[int, int]]:
        """(first step, how many) of every different piece of geometry."""
        numbers = self._sharing.geometry[steps]
        if _same(numbers):
            return [(int(steps[0]), len(steps))]
        _, first, counts = np.unique(numbers, return_index=True, return_counts=True)
        return list(zip(steps[first].tolist(), counts.tolist(), strict=True))

    def _held_by(self, step: int) -> int:
        """Vertices that a step reads, at most what its buffers hold."""
        read = int(self._vertices[step])
        _, held = self._fetched(step)
        return min(read, held) if held else read

    def _fetched(self, step: int) -> tuple[int, int]:
        """(bytes of one vertex, vertices that its buffers hold) of what a step reads."""
        array = int(self._sharing.arrays[0][step])
        if array not in self._fetched_known:
            inputs = self._inputs(step)
            held = min((self._buffers.get(a.buffer, 0) // a.stride for a in inputs if a.stride), default=0)
            self._fetched_known[array] = (sum(a.bytes for a in inputs), held)
        return self._fetched_known[array]

    def _written(self, steps: Ints) -> bool:
        written = self._sharing.written_buffers
        return bool(written) and any(a.buffer in written for step in steps[:: max(len(steps) // 16, 1)].tolist() for a in self._inputs(step))

    def _parts(self, how: str, steps: Ints, data: int, textures: int) -> tuple[list[Ints], list[str]]:
        """Split by what one draw can hold."""
        measure, limits = self._measure, []
        most = len(steps)
        if data and most * data > self._block:
            most = max(self._block // data, 1)
            limits.append(f"{most} draws' data in a uniform block of {self._block:,} bytes")
        parts = [steps[at : at + most] for at in range(0, len(steps), most)]
        if how == MERGE:
            split: list[Ints] = []
            for part in parts:
                total = np.cumsum(self._vertices[part])
                bins = (total - 1) // max(measure.vertices_a_batch, 1)
                split += [part[bins == b] for b in np.unique(bins)]
            if len(split) > len(parts):
                limits.append(f"{measure.vertices_a_batch:,} vertices in a batch")
            parts = split
        if textures > measure.array_layers:
            limits.append(f"{measure.array_layers} layers in a texture array")
            parts = [piece for part in parts for piece in np.array_split(part, -(-textures // measure.array_layers))]
        return parts, limits

    # ---- who stays alone -------------------------------------------------------------------------------

    def _loners(self, of_step: Ints) -> dict[str, list[int]]:
        """Draws without company, by the first thing that nobody in their pass shares with them."""
        sharing = self._sharing
        alone = np.flatnonzero(sharing.draws & (of_step < 0))
        reasons: dict[str, list[int]] = {}
        if len(alone) == 0:
            return reasons
        columns = sharing.columns
        key = columns["target"]
        levels = [
            ("program", "no other draw of its pass has its program"), ("blend", "no other draw has its blending"),
            ("depth", "no other draw has its depth state"), ("raster", "no other draw has its rasterising state"),
            ("scissor or stencil", "no other draw has its scissor or stencil"), ("viewport", "no other draw has its viewport"),
        ]  # fmt: skip
        left = np.ones(len(sharing.calls), bool)
        why = np.full(len(sharing.calls), "", dtype=object)
        for name, text in levels:
            key = combined(key, columns[name])
            _, which, counts = np.unique(key[sharing.draws], return_inverse=True, return_counts=True)
            single = np.zeros(len(left), bool)
            single[np.flatnonzero(sharing.draws)] = counts[which] == 1
            why[single & left] = text
            left &= ~single
        for step in alone.tolist():
            text = str(why[step]) or self._other_reason(step)
            reasons.setdefault(text, []).append(step)
        return reasons

    def _other_reason(self, step: int) -> str:
        sharing = self._sharing
        if int(sharing.frame.steps.program[step]) == 0:
            return "drawn by the fixed functions, which know no data of each draw"
        if int(sharing.frame.steps.begin[step]) != int(sharing.calls[step]) or sharing.primitive[step] > 2:
            return "patches, adjacency, or several calls: nothing here merges them"
        if int(sharing.frame.steps.instances[step]) != 1:
            return "drawn as instances already"
        if not sharing.order_free[step]:
            return "order: steps between it and its like must keep their place"
        return "its vertices, or the shape of its textures, are its own"


def _classes(numbers: npt.NDArray[np.uint64], rows: Ints) -> list[Ints]:
    """Rows by equal number, each in order, in the order of their first rows."""
    if len(rows) == 0:
        return []
    order = np.argsort(numbers[rows], kind="stable")
    edges = np.flatnonzero(np.diff(numbers[rows][order])) + 1
    found = [np.asarray(rows[part]) for part in np.split(order, edges)]
    return sorted(found, key=lambda part: int(part[0]))


def _same(values: npt.NDArray[Any]) -> bool:
    return len(values) == 1 or bool((values == values[0]).all())


def _consecutive(steps: Ints) -> bool:
    return int(steps[-1] - steps[0]) + 1 == len(steps)
