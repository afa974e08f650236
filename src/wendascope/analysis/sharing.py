"""What the steps of a frame share: for every aspect that keeps draws apart, one number a step, equal where it is equal."""

from __future__ import annotations

import dataclasses
import functools
import re
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from wendascope.frame.call_roles import calls_matching
from wendascope.frame.frame import Frame
from wendascope.frame.glsl import fragment_habits
from wendascope.frame.inputs import SAMPLER_TARGETS, SamplerUse, sampler_uses
from wendascope.frame.objects import ProgramRecord, TextureRecord
from wendascope.frame.setting_values import blob_numbers, combined, mixed
from wendascope.frame.state_table import DRAW_BUFFERS, VIEWPORTS
from wendascope.frame.steps import KINDS
from wendascope.frame.vertex_inputs import VertexInput, array_inputs, attribute_changes, attribute_names
from wendascope.frame.written import buffer_writes, element_buffers
from wendascope.registry import GL, tables

Ints = npt.NDArray[np.int64]
Numbers = npt.NDArray[np.uint64]
Mask = npt.NDArray[np.bool_]

ASPECTS = ("target", "program", "texture", "uniform", "block", "geometry", "blend", "depth", "raster", "scissor or stencil", "viewport", "kind")
"""What two steps can differ in. `target` is the pass, `kind` that one of them is no draw."""

_ASPECT_OF = {
    "blend_enabled": "blend", "blend_func": "blend", "blend_equation": "blend", "color_mask": "blend", "blend_color": "blend", "logic_op": "blend",
    "depth_func": "depth", "depth_mask": "depth", "depth_range": "depth", "stencil_func": "scissor or stencil", "stencil_op": "scissor or stencil",
    "stencil_mask": "scissor or stencil", "scissor": "scissor or stencil", "scissor_test_enabled": "scissor or stencil", "cull_face_mode": "raster",
    "front_face": "raster", "polygon_mode": "raster", "polygon_offset": "raster", "line_width": "raster", "point_size": "raster",
    "provoking_vertex": "raster", "sample_coverage": "raster", "sample_mask": "raster", "min_sample_shading": "raster",
    "primitive_restart_index": "raster", "clip_control": "raster", "patch_parameter": "raster", "viewport": "viewport",
}  # fmt: skip
_CAPABILITIES = {
    GL.COLOR_LOGIC_OP: "blend", GL.DITHER: "blend", GL.FRAMEBUFFER_SRGB: "blend", GL.ALPHA_TEST: "blend", GL.DEPTH_TEST: "depth",
    GL.DEPTH_CLAMP: "depth", GL.STENCIL_TEST: "scissor or stencil",
}  # fmt: skip
_SPREAD = {"blend_func": DRAW_BUFFERS, "blend_equation": DRAW_BUFFERS, "color_mask": DRAW_BUFFERS, "blend_enabled": DRAW_BUFFERS,
           "viewport": VIEWPORTS, "scissor": VIEWPORTS, "scissor_test_enabled": VIEWPORTS, "depth_range": VIEWPORTS}  # fmt: skip
_PRIMITIVES = {
    GL.POINTS: "points", GL.LINES: "lines", GL.LINE_STRIP: "lines", GL.LINE_LOOP: "lines", GL.TRIANGLES: "triangles", GL.TRIANGLE_STRIP: "triangles",
    GL.TRIANGLE_FAN: "triangles", GL.QUADS: "triangles", GL.POLYGON: "triangles",
}  # fmt: skip

_KEEPS_ORDER = re.compile(
    r"gl((Begin|End)(Query|Conditional|TransformFeedback)|(Pause|Resume)TransformFeedback|(Compressed|Copy)?(Tex|Texture)(Sub)?Image|GenerateMipmap|MemoryBarrier"
    r"|TextureBarrier|ReadPixels|InvalidateFramebuffer|Call|NewList|EndList|CopyImage|Framebuffer(Tex|Ren)|DrawBuffer|ClearBuffer|ClearTex)"
)
"""Calls that steps on both sides of them must keep their sides of."""


def _numbered(numbers: Numbers) -> tuple[Ints, Ints]:
    """(the first row of each different number, which of them each row has), in the order of the numbers."""
    order = np.argsort(numbers, kind="stable")
    fresh = np.ones(len(order), bool)
    fresh[1:] = numbers[order][1:] != numbers[order][:-1]
    which = np.empty(len(order), np.int64)
    which[order] = np.cumsum(fresh) - 1
    return order[fresh], which


@dataclass
class Detail:
    """One named thing within an aspect: a sampler, a uniform, a block. `numbers` has one entry for each of `steps`."""

    aspect: str
    name: str
    program: int
    steps: Ints
    numbers: Numbers


class Sharing:
    """Columns over all steps of a frame, each computed when first asked for."""

    def __init__(self, frame: Frame) -> None:
        self.frame = frame
        self._values = frame.setting_values
        self._writes = buffer_writes(frame)
        self.programs: dict[int, ProgramRecord] = {p.name: p for p in frame.objects.programs}
        self.draws: Mask = np.asarray(frame.steps.kind == KINDS.index("draw"))

    @property
    def written_buffers(self) -> set[int]:
        """Buffers that calls of the frame write."""
        return set(self._writes)

    @functools.cached_property
    def calls(self) -> Ints:
        return np.asarray(self.frame.steps.call, np.int64)

    @functools.cached_property
    def columns(self) -> dict[str, Numbers]:
        """Aspect -> one number a step."""
        steps = self.frame.steps
        count = len(steps)
        found = {name: np.zeros(count, np.uint64) for name in ASPECTS}
        found["target"] = np.asarray(self.frame.passes.of_step, np.uint64)
        found["program"] = combined(np.asarray(steps.program, np.uint64), self._values.column("pipeline", self.calls))
        found["kind"] = np.where(self.draws, np.uint64(0), np.arange(count, dtype=np.uint64) + np.uint64(1))
        found["geometry"] = self.geometry
        for aspect, column in self._fixed():
            found[aspect] = combined(found[aspect], column)
        for detail in self.details:
            found[detail.aspect][detail.steps] = combined(found[detail.aspect][detail.steps], detail.numbers)
        return found

    def _fixed(self) -> Iterator[tuple[str, Numbers]]:
        """Columns of the state keys that the frame changes at all."""
        for name, aspect in (*_ASPECT_OF.items(), ("capability", "raster")):
            events = self.frame.history.events(name)
            first = events.span(0, 0)
            for key, (start, end) in events.starts.items():
                i = key >> 32
                if events.calls[end - 1] < 0:
                    continue  # as it was before the frame
                if name in _SPREAD and i and np.array_equal(events.calls[start:end], events.calls[slice(*first)]):
                    continue  # set along with the first
                of = _CAPABILITIES.get(i, aspect) if name == "capability" else aspect
                yield of, combined(self._values.column(name, self.calls, i, key & 0xFFFFFFFF), mixed(np.full(len(self.calls), key, np.uint64)))

    # ---- textures, uniforms, blocks -------------------------------------------------------------------

    @functools.cached_property
    def samplers(self) -> list[SamplerUse]:
        return list(sampler_uses(self.frame))

    @functools.cached_property
    def details(self) -> list[Detail]:
        found = []
        for use in self.samplers:
            numbers = use.textures.astype(np.uint64)
            calls = self.calls[use.steps]
            for unit in np.unique(use.units).tolist():
                mine = use.units == unit
                numbers[mine] = combined(numbers[mine], self._values.column("sampler", calls[mine], unit))
            found.append(Detail("texture", use.sampler, use.program, use.steps, numbers))
        for name in np.unique(self.frame.steps.program).tolist():
            program = self.programs.get(name)
            if program is None:
                continue
            rows = np.flatnonzero(self.frame.steps.program == name)
            found += self._uniforms(program, rows)
            found += self._blocks(program, rows)
        return found

    def _uniforms(self, program: ProgramRecord, rows: Ints) -> list[Detail]:
        events = self.frame.history.events("uniform")
        found = []
        for uniform in program.uniforms:
            if uniform.type in SAMPLER_TARGETS:
                continue
            columns = [
                self._values.column("uniform", self.calls[rows], program.name, location)
                for location in uniform.locations
                if location >= 0 and events.span(program.name, location)[1]
            ]
            if columns:
                found.append(Detail("uniform", uniform.name.removesuffix("[0]"), program.name, rows, combined(*columns)))
        return found

    def _blocks(self, program: ProgramRecord, rows: Ints) -> list[Detail]:
        found = []
        for target, blocks in ((GL.UNIFORM_BUFFER, program.blocks), (GL.SHADER_STORAGE_BUFFER, program.storage_blocks)):
            for name, (index, binding) in blocks.items():
                bindings = self.frame.history.column("block_binding", self.calls[rows], program.name, index, missing=binding) if target == GL.UNIFORM_BUFFER else np.full(len(rows), binding)
                numbers = np.zeros(len(rows), np.uint64)
                for number in np.unique(bindings).tolist():
                    mine = bindings == number
                    calls = self.calls[rows[mine]]
                    column = self._values.column("indexed_buffer", calls, target, number)
                    buffers = self.frame.history.column("indexed_buffer", calls, target, number)
                    numbers[mine] = combined(column, self._versions(buffers, calls))
                found.append(Detail("block", name, program.name, rows, numbers))
        return found

    def _versions(self, buffers: Ints, calls: Ints) -> Numbers:
        """How often each buffer was written before each call."""
        versions = np.zeros(len(calls), np.uint64)
        for buffer in np.unique(buffers).tolist():
            if buffer in self._writes:
                mine = buffers == buffer
                versions[mine] = np.searchsorted(self._writes[buffer], calls[mine]).astype(np.uint64)
        return versions

    # ---- geometry -------------------------------------------------------------------------------------

    @functools.cached_property
    def arrays(self) -> tuple[Ints, list[list[VertexInput]]]:
        """(index into the list for each step, the attributes that its program reads)."""
        steps, frame = self.frame.steps, self.frame
        arrays = frame.history.column("vertex_array", self.calls)
        versions = np.searchsorted(attribute_changes(frame), self.calls)
        of_array = combined(arrays.astype(np.uint64), versions.astype(np.uint64))
        # clears may come with the same array and program, and read neither
        first, which = _numbered(combined(of_array, np.asarray(steps.program, np.uint64), self.draws.astype(np.uint64)))
        records = {v.name: v for v in frame.objects.vertex_arrays}
        plain: dict[int, list[VertexInput]] = {}
        names = {name: attribute_names(record) for name, record in self.programs.items()}
        inputs: list[list[VertexInput]] = []
        for step, key, array, program in zip(first.tolist(), of_array[first].tolist(), arrays[first].tolist(), steps.program[first].tolist(), strict=True):
            if not self.draws[step]:
                inputs.append([])
                continue
            if key not in plain:
                plain[key] = array_inputs(frame, int(self.calls[step]), array, records.get(array), {})
            known = names.get(program)
            rows = plain[key]
            inputs.append(rows if known is None else [dataclasses.replace(row, name=known[row.index]) for row in rows if row.index in known])
        return which, inputs

    @functools.cached_property
    def _buffer_numbers(self) -> dict[int, int]:
        """Buffer -> a number for its contents, where the frame does not write it: equal data is equal whatever its name."""
        return {
            b.name: int(b.contents.hash[:15], 16) if b.contents and b.name not in self._writes else int(mixed(np.array([b.name], np.uint64))[0])
            for b in self.frame.objects.buffers
        }

    @functools.cached_property
    def geometry(self) -> Numbers:
        """The draw's own arguments and the data that its vertices come from."""
        frame, calls = self.frame, self.frame.calls
        numbers = np.zeros(len(self.calls), np.uint64)
        for command_id in np.unique(calls.ids[self.calls]).tolist():
            rows = np.flatnonzero(calls.ids[self.calls] == command_id)
            columns: list[Numbers | int] = [command_id]
            for parameter in tables().commands[command_id].parameters:
                column = calls.column(self.calls[rows], parameter.slot)
                if parameter.kind == "pointer":
                    column = blob_numbers(calls, column, calls.column(self.calls[rows], parameter.slot + 1))
                columns.append(column)
            numbers[rows] = combined(*columns)
        which, inputs = self.arrays
        known = self._buffer_numbers
        shapes = [
            hash(tuple((a.index, a.size, a.type, a.normalized, a.integer, a.stride, a.offset, a.divisor, known.get(a.buffer, a.buffer)) for a in attributes))
            & (1 << 63) - 1
            for attributes in inputs
        ]
        numbers = combined(numbers, np.array(shapes, np.uint64)[which] if shapes else numbers)
        for index, attributes in enumerate(inputs):
            for buffer in {a.buffer for a in attributes} & self.written_buffers:
                mine = self._rows_of(index)
                numbers[mine] = combined(numbers[mine], np.searchsorted(self._writes[buffer], self.calls[mine]).astype(np.uint64))
        elements = element_buffers(frame, self.calls)
        first, which_name = _numbered(elements.astype(np.uint64))
        table = np.array([known.get(name, name) for name in elements[first].tolist()], np.uint64)
        return combined(numbers, table[which_name] if len(table) else numbers, self._versions(elements, self.calls))

    @functools.cached_property
    def _order(self) -> tuple[Ints, Ints]:
        which, inputs = self.arrays
        order = np.argsort(which, kind="stable")
        return order, np.searchsorted(which[order], np.arange(len(inputs) + 1))

    def _rows_of(self, index: int) -> Ints:
        order, bounds = self._order
        return order[bounds[index] : bounds[index + 1]]

    @functools.cached_property
    def layout(self) -> Numbers:
        """Formats of the attributes read, without where they lie, and what kind of primitive is drawn."""
        which, inputs = self.arrays
        rows = [hash(tuple((a.index, a.size, a.type, a.normalized, a.integer, a.divisor) for a in attributes)) & (1 << 63) - 1 for attributes in inputs]
        of_array = np.array(rows, np.uint64)[which] if rows else np.zeros(0, np.uint64)
        return combined(of_array, self.primitive.astype(np.uint64), self._constants)

    @functools.cached_property
    def _constants(self) -> Numbers:
        """Values of attributes without an array, where the frame sets any."""
        numbers = np.zeros(len(self.calls), np.uint64)
        for i, j in self.frame.history.keys("attribute_value"):
            numbers = combined(numbers, self._values.column("attribute_value", self.calls, i, j))
        return numbers

    @functools.cached_property
    def primitive(self) -> Ints:
        """0 for points, 1 lines, 2 triangles; others (patches, adjacency, no draw at all) 3 and more."""
        calls = self.frame.calls
        found = np.full(len(self.calls), 3, np.int64)
        names = ["points", "lines", "triangles"]
        for command_id in np.unique(calls.ids[self.calls]).tolist():
            command = tables().commands[command_id]
            slot = next((p.slot for p in command.parameters if p.name == "mode"), None)
            if slot is None:
                continue
            rows = np.flatnonzero(calls.ids[self.calls] == command_id)
            modes = calls.column(self.calls[rows], slot).astype(np.int64)
            for mode in np.unique(modes).tolist():
                found[rows[modes == mode]] = names.index(_PRIMITIVES[mode]) if mode in _PRIMITIVES else 100 + mode
        return found

    # ---- what may change places -------------------------------------------------------------------------

    @functools.cached_property
    def order_free(self) -> Mask:
        """Steps whose place among others of their kind does not matter, by their state: opaque, tested and written by
        depth, without stencil or blending, and not reading what they write."""
        history, calls = self.frame.history, self.calls
        func = history.column("depth_func", calls, missing=GL.LESS)
        free = self.draws & (history.column("capability", calls, GL.DEPTH_TEST) == 1) & (history.column("depth_mask", calls, missing=1) == 1)
        free &= np.isin(func, (GL.LESS, GL.LEQUAL, GL.GREATER, GL.GEQUAL))
        free &= (history.column("capability", calls, GL.STENCIL_TEST) == 0) & (history.column("capability", calls, GL.COLOR_LOGIC_OP) == 0)
        for i, j in history.keys("blend_enabled"):
            free &= history.column("blend_enabled", calls, i, j) == 0
        writers = [p.name for p in self.programs.values() if any(fragment_habits(s.source).side_effects for s in p.shaders)]
        programs = self.frame.steps.program
        free &= ~np.isin(programs, writers) & np.isin(programs, list(self.programs))
        return free & ~self._reads_target

    @functools.cached_property
    def _reads_target(self) -> Mask:
        found = np.zeros(len(self.calls), bool)
        attached = [{a.name for a in t.attachments if a.kind == "texture"} for t in self.frame.passes.targets]
        of_step = self.frame.passes.of_step
        for use in self.samplers:
            for index in np.unique(of_step[use.steps]).tolist():
                if attached[index]:
                    mine = of_step[use.steps] == index
                    found[use.steps[mine]] |= np.isin(use.textures[mine], list(attached[index]))
        return found

    @functools.cached_property
    def epoch(self) -> Ints:
        """Steps of one pass with the same number may change places; every other step has a number of its own kind.

        It grows at each step that must keep its place, where the depth function changes, and at every call between
        steps whose effect nobody tracks.
        """
        frame = self.frame
        func = frame.history.column("depth_func", self.calls, missing=GL.LESS)
        grows = ~self.order_free
        grows[1:] |= ~self.order_free[:-1]
        grows[1:] |= func[1:] != func[:-1]
        grows[1:] |= frame.passes.of_step[1:] != frame.passes.of_step[:-1]
        grows[1:] |= self._separated
        return np.cumsum(grows)

    def family(self, ordered: bool) -> Numbers:
        """Equal for draws that could be one, but for their textures, uniforms, blocks and geometry.

        With `ordered`, only for those that may also be drawn at one place: steps of one epoch, and of the others
        those that follow each other.
        """
        columns = self.columns
        kept = [columns[name] for name in ASPECTS if name not in ("texture", "uniform", "block", "geometry")]
        family = combined(*kept, self.layout)
        if not ordered:
            return family
        place = self.epoch.astype(np.uint64)
        fixed = ~self.order_free
        runs = np.zeros(len(family), np.int64)
        if len(family):
            runs[1:] = np.cumsum((family[1:] != family[:-1]) | (fixed[1:] != fixed[:-1]) | self._separated)
        return combined(family, np.where(fixed, runs.astype(np.uint64) | np.uint64(1 << 63), place))

    @functools.cached_property
    def _separated(self) -> Mask:
        """Of each pair of consecutive steps, whether a call between them keeps them on their sides."""
        marks = np.flatnonzero(calls_matching(self.frame.calls, _KEEPS_ORDER))
        between = np.searchsorted(marks, self.calls)
        return np.asarray(between[1:] != between[:-1])

    @functools.cached_property
    def texture_shapes(self) -> Numbers:
        """Equal where the textures of two steps could be layers of arrays: sizes, formats, levels and parameters."""
        shapes = {}
        for t in self.frame.objects.textures:
            images = tuple((i.target, i.level, i.width, i.height, i.depth, i.internal_format) for i in t.images)
            shapes[t.name] = hash((t.target, images, _parameters(t))) & (1 << 63) - 1
        return self._of_textures(shapes)

    @functools.cached_property
    def texture_looks(self) -> Numbers:
        """Equal where they could share an atlas page: format and parameters alike, contents known and not drawn by the frame."""
        attached = {a.name for t in self.frame.passes.targets for a in t.attachments if a.kind == "texture"}
        looks = {}
        for t in self.frame.objects.textures:
            if t.target == GL.TEXTURE_2D and t.name not in attached and t.images and all(i.contents and not i.compressed for i in t.images):
                first = t.images[0]
                looks[t.name] = hash((first.internal_format, first.format, first.type, _parameters(t))) & (1 << 63) - 1
        return self._of_textures(looks)

    def _of_textures(self, numbers: dict[int, int]) -> Numbers:
        """Numbers of textures put together over all samplers of each step; other textures are numbered by their names."""
        found = np.zeros(len(self.calls), np.uint64)
        for use in self.samplers:
            first, which = _numbered(use.textures.astype(np.uint64))
            table = np.array([numbers.get(name, name) for name in use.textures[first].tolist()], np.uint64)
            found[use.steps] = combined(found[use.steps], table[which])
        return found


def _parameters(texture: TextureRecord) -> tuple[tuple[str, tuple[float, ...]], ...]:
    return tuple((name, tuple(values)) for name, values in sorted(texture.parameters.items()))
