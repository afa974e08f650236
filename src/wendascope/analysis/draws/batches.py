"""Batches: steps that could be drawn together, how, and at what price; and single draws, with the reason.

Copies (one geometry, other values) become instances; other geometry is merged, or drawn by one multi-draw where
nothing but the range differs; other textures of one shape need a texture array first.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

import msgspec
import numpy as np
import numpy.typing as npt

from wendascope.analysis.draws.draw_order import Touched
from wendascope.analysis.draws.draw_plans import PlannedDraw, Region, plan_regions
from wendascope.analysis.draws.groups import Group, all_same, find_groups
from wendascope.analysis.draws.sharing import Sharing
from wendascope.analysis.guidelines import BatchGuidelines, guidelines
from wendascope.frame.numbers import combined
from wendascope.frame.remedy import ATLAS, INSTANCE, MERGE, MULTI_DRAW, SAME, UNITS, Textures

Ints = npt.NDArray[np.int64]


class Batch(msgspec.Struct):
    """Steps that could be drawn together. Bytes are of graphics memory."""

    number: int
    pass_index: int
    how: str
    """`instance`, `merge` or `multi-draw`."""
    steps: list[int]
    parts: list[list[int]]
    """What each draw would hold: more than one where a limit splits the batch."""
    program: int
    varies: list[str]
    """Uniforms and blocks that differ from step to step, and become data of each draw."""
    samplers: list[str]
    """Samplers whose textures differ, and would read a texture array."""
    gather: str
    """How those textures come together: `array`, `atlas` or `units`; `same` where none differ."""
    textures: int
    """Different textures that it reads through them."""
    in_order: bool
    """Whether its steps follow each other, so that nothing changes places."""
    always: bool
    """Whether state alone allows it: else it holds while things lie as they do in this picture."""
    in_place: bool
    """Whether its steps may be drawn where the last of them is, with all others where they are; else others have to
    move as well, in the order of its region.
    """
    region: int
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
        return f"batch {self.number + 1}"


class PassDraws(msgspec.Struct):
    """Draws of one pass that may be drawn with others."""

    index: int
    name: str
    now: int
    then: int
    least: int
    """No order of the same groups has fewer, within the limits."""
    share: float
    """Of the draws of the frame, now: so much of a guideline for the frame is this pass's."""


@dataclass
class Batches:
    batches: list[Batch]
    single_draws: dict[str, list[int]] = field(default_factory=dict)
    """Reason -> draws that nothing can be drawn together with."""
    of_step: Ints = field(default_factory=lambda: np.zeros(0, np.int64))
    """Batch of each step; -1 for none."""
    regions: list[Region] = field(default_factory=list)
    """Runs of steps that may change places, each with its plan."""
    touched: Touched | None = None
    """What lies where, as far as that was known."""

    @property
    def saved(self) -> int:
        return sum(c.saved for c in self.batches)

    def passes(self, names: Sequence[str]) -> list[PassDraws]:
        """Passes with draws that may be drawn with others; `names` are those of all passes."""
        saved = dict.fromkeys(range(len(names)), 0)
        for batch in self.batches:
            saved[batch.pass_index] += batch.saved
        rows = [(index, name, self.draws_now(index)) for index, name in enumerate(names)]
        total = max(self.draws_now(), 1)
        return [PassDraws(i, name, now, now - saved[i], self.least(i), now / total) for i, name, now in rows if now]

    def draws_now(self, pass_index: int | None = None) -> int:
        """Draws of a pass, or of all, that may be drawn with others, as far as anything may."""
        return sum(len(region.order) for region in self.regions if pass_index in (None, region.pass_index))

    def least(self, pass_index: int | None = None) -> int:
        """How few draws they can become by any order and within the limits. A group that is one draw but for one limit
        needs as many as that limit says.
        """
        total = sum(region.least for region in self.regions if pass_index in (None, region.pass_index))
        for batch in self.batches:
            if pass_index in (None, batch.pass_index) and len(batch.limits) == 1:
                draws = self.regions[batch.region].draws
                group = next(draw.group for draw in draws if int(draw.steps[0]) == batch.steps[0])
                if sum(draw.group == group for draw in draws) == 1:
                    total += len(batch.parts) - 1
        return total


def find_batches(sharing: Sharing, measure: BatchGuidelines | None = None, touched: Touched | None = None) -> Batches:
    """Group the draws of a frame, and plan an order in which the fewest are left. Needs no replay and no times.

    `touched` says what lies where on its target: with it, steps whose order counts change places where they do not
    overlap in this picture. Without, only steps that state allows to.
    """
    return _Finder(sharing, measure or guidelines().batches, touched).find()


class _Finder:
    def __init__(self, sharing: Sharing, measure: BatchGuidelines, touched: Touched | None) -> None:
        self._sharing = sharing
        self._touched = touched
        self._measure = measure
        self._vertices = np.asarray(sharing.frame.steps.vertices, np.int64)
        self._passes = np.asarray(sharing.frame.passes.of_step, np.int64)
        self._block = measure.uniform_block_bytes
        self._fetched_known: dict[int, tuple[int, int]] = {}
        self._data_known: dict[tuple[object, ...], int] = {}
        self._buffers = sharing.uses.buffer_sizes

    def find(self) -> Batches:
        sharing = self._sharing
        found: list[Batch] = []
        of_step = np.full(len(sharing.calls), -1, np.int64)
        groups = find_groups(sharing, self._measure)
        regions = plan_regions(sharing, [group.steps for group in groups], self._touched)
        planned = [(number, draw) for number, region in enumerate(regions) for draw in region.draws]
        planned.sort(key=lambda row: int(row[1].steps[0]))
        self._compare([draw.steps for _, draw in planned])
        for row, (region, draw) in enumerate(planned):
            batch = self._batch(len(found), row, groups[draw.group], draw, region)
            if batch.saved > 0:
                found.append(batch)
                of_step[draw.steps] = batch.number
        return Batches(found, self._single_draws(of_step), of_step, regions, self._touched)

    # ---- what it would take --------------------------------------------------------------------------

    def _batch(self, number: int, row: int, group: Group, draw: PlannedDraw, region: int) -> Batch:
        sharing, how, steps = self._sharing, group.how, draw.steps
        gather: Textures = SAME if all_same(sharing.columns["texture"][steps]) else group.textures
        near = gather != SAME
        program = int(sharing.frame.steps.program[steps[0]])
        varies = self._differing("uniform", program, row)
        blocks = self._differing("block", program, row)
        samplers = self._differing("texture", program, row) if near else []
        textures = len(set(sharing.columns["texture"][steps].tolist())) if near else 1
        data = (
            self._data_bytes(program, varies, samplers, gather == ATLAS) + self._block_bytes(program, blocks)
            if how != MULTI_DRAW
            else 0
        )
        inputs = sharing.inputs_of(int(steps[0]))
        vertex_bytes = sum((a.bytes + 3) // 4 * 4 for a in inputs) if how == MERGE else 0
        vertices = self._vertices[steps]
        texels = sharing.uses.buffer_texels(program) if len(steps) * data > self._block else 0
        parts, limits = self._parts(how, steps, data, texels)
        before = self._bytes_read(steps)
        merged = (
            sum(count * self._held_by(step) for step, count in self._different(steps)) * (vertex_bytes + 4)
            + 2 * int(vertices.sum())
            if how == MERGE
            else 0
        )
        after = (before if how != MERGE else merged) + data * len(steps)
        caveats = []
        if how == INSTANCE and inputs and vertices[0] < self._measure.tiny_mesh:
            caveats.append(f"only {int(vertices[0])} vertices per instance: merging may be faster on some devices")
        if how == MERGE and varies:
            caveats.append("moving objects cost nothing extra: their transforms stay per-draw data")
        if how == MERGE and merged > 4 * before:
            caveats.append("merged copies of a mesh cost memory; instances do not")
        if how == MERGE and self._written(steps):
            caveats.append("dynamic vertices: they would be streamed into one shared buffer each frame")
        if texels and max(map(len, parts)) * data > self._block:
            caveats.append(
                f"the data of all draws needs {len(steps) * data:,} bytes: shaders read it from a buffer texture, as a"
                f" uniform block holds {self._block:,}"
            )
        if gather == UNITS:
            caveats.append(
                f"{textures} textures are bound side by side; the shader picks one by a number that is the same for a"
                " whole primitive"
            )
        if gather == ATLAS:
            caveats.append(
                "in an atlas, texture coordinates lose precision and small mip levels bleed into neighbours: the"
                " picture may change a little"
            )
        if not _consecutive(steps) and draw.always and bool(sharing.order_free[steps].all()):
            caveats.append("other draws in between are reordered; fragments of equal depth may differ")
        elif not _consecutive(steps) and draw.always:
            caveats.append("the draws only add to what is there: their order does not matter")
        return Batch(
            number,
            int(self._passes[steps[0]]),
            how,
            steps.tolist(),
            [part.tolist() for part in parts],
            program,
            [*varies, *(f"block {name}" for name in blocks)],
            samplers,
            gather,
            textures,
            _consecutive(steps),
            draw.always,
            draw.in_place,
            region,
            int(vertices[0]) if how == INSTANCE else int(vertices.sum()),
            before,
            after,
            data,
            limits,
            caveats,
        )

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
        return list(
            dict.fromkeys(name for of, name, flags in self._differs.get(program, []) if of == aspect and flags[group])
        )

    def _block_bytes(self, program: int, blocks: list[str]) -> int:
        """What blocks that differ take as data of each draw; blocks that cannot be taken apart are not counted."""
        return sum(self._sharing.uses.block_bytes(program, name) for name in blocks)

    def _data_bytes(self, program: int, varies: list[str], samplers: list[str], page: bool) -> int:
        key = (program, page, *varies, *samplers)
        if key not in self._data_known:
            layers, places = (0, len(samplers)) if page else (len(samplers), 0)
            self._data_known[key] = self._sharing.uses.uniform_bytes(program, varies, layers, places)
        return self._data_known[key]

    def _bytes_read(self, steps: Ints) -> int:
        """Of every different piece of geometry, the vertices that are read, at most what its buffers hold."""
        total = 0
        for step, _ in self._different(steps):
            total += self._fetched(step)[0] * self._held_by(step)
        return total

    def _different(self, steps: Ints) -> list[tuple[int, int]]:
        """(first step, how many) of every different piece of geometry."""
        numbers = self._sharing.geometry[steps]
        if all_same(numbers):
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
            inputs = self._sharing.inputs_of(step)
            held = min((self._buffers.get(a.buffer, 0) // a.stride for a in inputs if a.stride), default=0)
            self._fetched_known[array] = (sum(a.bytes for a in inputs), held)
        return self._fetched_known[array]

    def _written(self, steps: Ints) -> bool:
        written = self._sharing.uses.written_buffers
        return bool(written) and any(
            a.buffer in written
            for step in steps[:: max(len(steps) // 16, 1)].tolist()
            for a in self._sharing.inputs_of(step)
        )

    def _parts(self, how: str, steps: Ints, data: int, texels: int) -> tuple[list[Ints], list[str]]:
        """Split by what one draw can hold. `texels` of a buffer texture may hold more than a uniform block does."""
        measure, limits = self._measure, []
        most, held = len(steps), max(self._block, 16 * texels)
        if data and most * data > held:
            most = max(held // data, 1)
            what = "buffer texture" if texels else "uniform block"
            limits.append(f"{most:,} draws per {what} of {held:,} bytes")
        parts = [steps[at : at + most] for at in range(0, len(steps), most)]
        if how == MERGE:
            split: list[Ints] = []
            for part in parts:
                total = np.cumsum(self._vertices[part])
                bins = (total - 1) // max(measure.vertices_a_batch, 1)
                split += [part[bins == b] for b in np.unique(bins)]
            if len(split) > len(parts):
                limits.append(f"{measure.vertices_a_batch:,} vertices per batch")
            parts = split
        return parts, limits

    # ---- who stays alone -------------------------------------------------------------------------------

    def _single_draws(self, of_step: Ints) -> dict[str, list[int]]:
        """Draws without a batch, by the first thing that nobody in their pass shares with them."""
        sharing = self._sharing
        alone = np.flatnonzero(sharing.draws & (of_step < 0))
        reasons: dict[str, list[int]] = {}
        if len(alone) == 0:
            return reasons
        columns = sharing.columns
        key = columns["target"]
        levels = [
            ("program", "no other draw of the pass uses its program"),
            ("blend", "no other draw uses the same blend state"),
            ("depth", "no other draw uses the same depth state"),
            ("raster", "no other draw uses the same raster state"),
            ("scissor or stencil", "no other draw uses the same scissor or stencil state"),
            ("viewport", "no other draw uses the same viewport"),
        ]
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
            return "fixed-function pipeline: no per-draw data"
        if int(sharing.frame.steps.begin[step]) != int(sharing.calls[step]) or sharing.primitive[step] > 2:
            return "patches, adjacency or several calls per draw: merging is not supported"
        if int(sharing.frame.steps.instances[step]) != 1:
            return "already instanced"
        if sharing.uses.undefined_colours[step]:
            return "its shader leaves a colour of the target undefined: no other build of it need leave the same"
        if not sharing.order_free[step]:
            if self._touched is None:
                return "draw order: no depth test decides visibility, and positions were not measured yet"
            return "draw order: no depth test decides visibility, and draws in between overlap"
        return "unique vertex format or texture size"


def _consecutive(steps: Ints) -> bool:
    return int(steps[-1] - steps[0]) + 1 == len(steps)
