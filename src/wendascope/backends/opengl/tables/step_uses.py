"""What every step of an OpenGL frame uses, worked out by the state tracker and the contents of its buffers."""

from __future__ import annotations

import contextlib
import dataclasses
import functools
from collections.abc import Callable, Iterator
from typing import TYPE_CHECKING

import numpy as np
import numpy.typing as npt

from wendascope.backends.opengl.objects.buffer_contents import BufferContents
from wendascope.backends.opengl.objects.buffer_textures import buffer_texels
from wendascope.backends.opengl.objects.formats import uniform_type
from wendascope.backends.opengl.objects.records import ProgramRecord, TextureRecord, sampler_targets
from wendascope.backends.opengl.objects.subroutines import subroutine_numbers
from wendascope.backends.opengl.objects.uniform_blocks import block_layout
from wendascope.backends.opengl.objects.uniform_values import uniform_value, variable_of
from wendascope.backends.opengl.state.draw_buffers import repeated_draw_buffers
from wendascope.backends.opengl.state.offers import Offers
from wendascope.backends.opengl.state.setting_values import blob_numbers
from wendascope.backends.opengl.state.state_table import DRAW_BUFFERS, OF_VERTEX_ARRAYS, VIEWPORTS, decoded
from wendascope.backends.opengl.state.texture_parameters import parameter_calls
from wendascope.backends.opengl.state.untracked import untracked_calls
from wendascope.backends.opengl.tables.colour_outputs import ColourOutputs
from wendascope.backends.opengl.tables.inputs import SamplerUse, sampler_uses
from wendascope.backends.opengl.tables.vertex_inputs import (
    array_inputs,
    attribute_changes,
    attribute_names,
    vertex_inputs,
)
from wendascope.backends.opengl.tables.written import buffer_writes, element_buffers, written_objects
from wendascope.frame.numbers import Ints, Mask, Numbers, combined, mixed, numbered
from wendascope.frame.passes import Target
from wendascope.frame.resources import VertexInput, holding_positions
from wendascope.frame.steps import KINDS
from wendascope.frame.uses import (
    STATE_ASPECTS,
    DepthState,
    Detail,
    Primitive,
    StepUses,
    TextureUse,
    UnknownContentsError,
)
from wendascope.glsl.globals import UnclearSourceError
from wendascope.glsl.preprocessor import compiled_text
from wendascope.glsl.std140 import fits, struct_layout
from wendascope.glsl.versions import version_of
from wendascope.registry import GL, Role, tables

if TYPE_CHECKING:
    from wendascope.backends.opengl.frame import OpenGLFrame

_ASPECT_OF = {
    "blend_enabled": "blend",
    "blend_func": "blend",
    "blend_equation": "blend",
    "color_mask": "blend",
    "blend_color": "blend",
    "alpha_func": "blend",
    "logic_op": "blend",
    "depth_func": "depth",
    "depth_mask": "depth",
    "depth_range": "depth",
    "stencil_func": "scissor or stencil",
    "stencil_op": "scissor or stencil",
    "stencil_mask": "scissor or stencil",
    "scissor": "scissor or stencil",
    "scissor_test_enabled": "scissor or stencil",
    "cull_face_mode": "raster",
    "front_face": "raster",
    "polygon_mode": "raster",
    "polygon_offset": "raster",
    "polygon_offset_clamp": "raster",
    "shade_model": "raster",
    "line_stipple": "raster",
    "point_parameter": "raster",
    "point_attenuation": "raster",
    "clamp_color": "raster",
    "primitive_bounding_box": "raster",
    "line_width": "raster",
    "point_size": "raster",
    "provoking_vertex": "raster",
    "sample_coverage": "raster",
    "sample_mask": "raster",
    "min_sample_shading": "raster",
    "primitive_restart_index": "raster",
    "clip_control": "raster",
    "patch_parameter": "raster",
    "patch_outer_levels": "raster",
    "patch_inner_levels": "raster",
    "viewport": "viewport",
}
STATE_OF_DRAWS = (*_ASPECT_OF, "capability")
"""Patterns of state that decide what a draw does, besides its program and what it reads."""
_CAPABILITIES = {
    GL.COLOR_LOGIC_OP: "blend",
    GL.DITHER: "blend",
    GL.FRAMEBUFFER_SRGB: "blend",
    GL.ALPHA_TEST: "blend",
    GL.DEPTH_TEST: "depth",
    GL.DEPTH_CLAMP: "depth",
    GL.STENCIL_TEST: "scissor or stencil",
}
_SPREAD = {
    "blend_func": DRAW_BUFFERS,
    "blend_equation": DRAW_BUFFERS,
    "color_mask": DRAW_BUFFERS,
    "blend_enabled": DRAW_BUFFERS,
    "viewport": VIEWPORTS,
    "scissor": VIEWPORTS,
    "scissor_test_enabled": VIEWPORTS,
    "depth_range": VIEWPORTS,
}
_PRIMITIVES = {
    GL.POINTS: Primitive.POINTS,
    GL.LINES: Primitive.LINES,
    GL.LINE_STRIP: Primitive.LINES,
    GL.LINE_LOOP: Primitive.LINES,
    GL.TRIANGLES: Primitive.TRIANGLES,
    GL.TRIANGLE_STRIP: Primitive.TRIANGLES,
    GL.TRIANGLE_FAN: Primitive.TRIANGLES,
    GL.QUADS: Primitive.TRIANGLES,
    GL.POLYGON: Primitive.TRIANGLES,
}
_RANGES = ("glDrawArrays", "glDrawElements", "glDrawElementsBaseVertex", "glDrawRangeElements")
_KEEPING = ("image", "transform_feedback", "storage_binding", "draw_buffers")
"""Patterns of which no column tells: steps stay on their sides of what changes them."""
_NUMBER_TYPES = {"f": np.float32, "i": np.int32, "u": np.uint32, "d": np.float64}


_BY_DESTINATION = (
    GL.DST_COLOR, GL.ONE_MINUS_DST_COLOR, GL.DST_ALPHA, GL.ONE_MINUS_DST_ALPHA, GL.SRC_ALPHA_SATURATE,
)  # fmt: skip
_FIXED_POINT = (GL.UNSIGNED_BYTE, GL.UNSIGNED_SHORT, GL.UNSIGNED_INT_2_10_10_10_REV)


def target_colours(frame: OpenGLFrame, target: Target) -> tuple[bool, bool]:
    """(whether all colours of a target are fixed-point numbers, which are rounded alike whatever they hold, whether any
    can be sRGB).
    """
    if not target.framebuffer:
        return True, frame.default_framebuffer.srgb
    textures, renderbuffers = frame.textures, {r.name: r for r in frame.objects.renderbuffers}
    srgb = False
    for attachment in target.attachments:
        if attachment.point in (GL.DEPTH_ATTACHMENT, GL.STENCIL_ATTACHMENT):
            continue
        record = (textures if attachment.kind == "texture" else renderbuffers).get(attachment.name)
        image = record.images[0] if isinstance(record, TextureRecord) and record.images else record
        if image is None or isinstance(image, TextureRecord) or image.type not in _FIXED_POINT:
            return False, False
        srgb |= image.internal_format in (GL.SRGB8, GL.SRGB8_ALPHA8)
    return True, srgb


class OpenGLUses(StepUses):
    """Each column is worked out when first asked for."""

    def __init__(self, frame: OpenGLFrame) -> None:
        self._frame = frame
        self._values = frame.setting_values
        self._writes = buffer_writes(frame)
        self._programs: dict[int, ProgramRecord] = {p.name: p for p in frame.objects.programs}
        self._draws: Mask = np.asarray(frame.steps.kind == KINDS.index("draw"))
        self._calls: Ints = np.asarray(frame.steps.call, np.int64)

    @functools.cached_property
    def written_buffers(self) -> frozenset[int]:
        return frozenset(self._writes)

    @functools.cached_property
    def buffer_sizes(self) -> dict[int, int]:
        return {b.name: b.size for b in self._frame.objects.buffers}

    # ---- fixed state ----------------------------------------------------------------------------------

    @functools.cached_property
    def pipeline(self) -> Numbers:
        programs = np.asarray(self._frame.steps.program, np.uint64)
        subroutines, _ = subroutine_numbers(self._frame)
        return combined(programs, self._values.column("pipeline", self._calls), subroutines)

    @functools.cached_property
    def state(self) -> dict[str, Numbers]:
        found = {name: np.zeros(len(self._calls), np.uint64) for name in STATE_ASPECTS}
        for aspect, column in self._changing():
            found[aspect] = combined(found[aspect], column)
        return found

    def _changing(self) -> Iterator[tuple[str, Numbers]]:
        """Columns of the state keys that the frame changes at all."""
        for name, aspect in (*_ASPECT_OF.items(), ("capability", "raster")):
            events = self._frame.history.events(name)
            first = events.span(0, 0)
            for key, (start, end) in events.starts.items():
                i = key >> 32
                if events.calls[end - 1] < 0:
                    continue  # as it was before the frame
                if name in _SPREAD and i and np.array_equal(events.calls[start:end], events.calls[slice(*first)]):
                    continue  # set along with the first
                of = _CAPABILITIES.get(i, aspect) if name == "capability" else aspect
                yield (
                    of,
                    combined(
                        self._values.column(name, self._calls, i, key & 0xFFFFFFFF),
                        mixed(np.full(len(self._calls), key & 0xFFFFFFFFFFFFFFFF, np.uint64)),
                    ),
                )

    def _switched(self, capability: int) -> Mask:
        return np.asarray(self._frame.history.column("capability", self._calls, capability) == 1)

    @functools.cached_property
    def depth(self) -> DepthState:
        history = self._frame.history
        writes = history.column("depth_mask", self._calls, missing=1) == 1
        compare = history.column("depth_func", self._calls, missing=GL.LESS)
        return DepthState(self._switched(GL.DEPTH_TEST), np.asarray(writes), compare)

    @functools.cached_property
    def stencil(self) -> Mask:
        return self._switched(GL.STENCIL_TEST)

    @functools.cached_property
    def mixes_colours(self) -> Mask:
        history = self._frame.history
        mixes = self._switched(GL.COLOR_LOGIC_OP)
        for i, j in history.keys("blend_enabled"):
            mixes = mixes | (history.column("blend_enabled", self._calls, i, j) != 0)
        return np.asarray(mixes)

    @functools.cached_property
    def colour_mask(self) -> Numbers:
        history, calls = self._frame.history, self._calls
        off = [
            history.column("color_mask", calls, i, j, value=part, missing=1) == 0
            for i, j in history.keys("color_mask")
            for part in range(4)
        ]
        if not off:
            return np.zeros(len(calls), np.uint64)
        numbers = combined(*(column.astype(np.uint64) for column in off))
        return np.where(np.logical_or.reduce(off), numbers | np.uint64(1), np.uint64(0))

    @functools.cached_property
    def writes_no_colour(self) -> Mask:
        history, keys = self._frame.history, self._frame.history.keys("color_mask")
        found = np.full(len(self._calls), bool(keys))
        for i, j in keys:
            for part in range(4):
                found &= history.column("color_mask", self._calls, i, j, value=part, missing=1) == 0
        return found

    @functools.cached_property
    def clockwise(self) -> Mask:
        return np.asarray(self._frame.history.column("front_face", self._calls, missing=GL.CCW) == GL.CW)

    @functools.cached_property
    def adds(self) -> Mask:
        history, calls = self._frame.history, self._calls
        found = ~self._switched(GL.COLOR_LOGIC_OP) & ~(self.depth.tests & self.depth.writes)
        for i in sorted({i for i, _ in history.keys("blend_enabled")}):
            found &= history.column("blend_enabled", calls, i) == 1
            ways = [history.column("blend_equation", calls, i, value=k, missing=GL.FUNC_ADD) for k in (0, 1)]
            factors = [history.column("blend_func", calls, i, value=k) for k in range(4)]
            plain = [~np.isin(factors[k], _BY_DESTINATION) & (factors[k + 1] == GL.ONE) for k in (0, 2)]
            adding = (ways[0] == GL.FUNC_ADD) & (ways[1] == GL.FUNC_ADD) & plain[0] & plain[1]
            found &= adding | ((ways[0] == ways[1]) & np.isin(ways[0], (GL.MIN, GL.MAX)))
        curved = self._switched(GL.FRAMEBUFFER_SRGB) | self._frame.context.es
        kinds = [target_colours(self._frame, target) for target in self._frame.passes.targets]
        of_step = np.asarray(self._frame.passes.of_step)
        fixed, srgb = np.array(kinds, bool).reshape(-1, 2).T
        found &= fixed[of_step] & ~(srgb[of_step] & curved)
        return np.asarray(found & bool(history.keys("blend_enabled")))

    @functools.cached_property
    def vertex_array(self) -> Ints:
        return self._frame.history.column("vertex_array", self._calls)

    @functools.cached_property
    def separated(self) -> Mask:
        keeping = self._frame.calls.having(Role.KEEPS_ORDER)
        changed = self._frame.history.change_calls(*_KEEPING)
        keeping[changed[changed >= 0]] = True
        keeping &= ~repeated_draw_buffers(self._frame)
        between = np.searchsorted(np.flatnonzero(keeping | parameter_calls(self._frame)[1]), self._calls)
        # what stands between the begin and the end of a step is a part of it
        loose = np.flatnonzero(untracked_calls(self._frame))
        apart = np.searchsorted(loose, self._frame.steps.begin[1:]) != np.searchsorted(loose, self._calls[:-1])
        return np.asarray((between[1:] != between[:-1]) | apart)

    @functools.cached_property
    def _outputs(self) -> ColourOutputs:
        return ColourOutputs(self._frame)

    def colours_taken(self, step: int) -> set[int]:
        return self._outputs.taken(step)

    @functools.cached_property
    def undefined_colours(self) -> Mask:
        return self._outputs.undefined()

    @functools.cached_property
    def written_textures(self) -> frozenset[int]:
        return frozenset(written_objects(self._frame).textures)

    @functools.cache  # noqa: B019
    def knows_arrays(self, program: int) -> bool:
        record, dialect = self._programs.get(program), self._frame.context.dialect
        return record is not None and all(
            version_of(compiled_text(s.source, dialect), self._frame.context.es).has_arrays for s in record.shaders
        )

    # ---- textures, uniforms, blocks -------------------------------------------------------------------

    @functools.cached_property
    def textures(self) -> list[TextureUse]:
        return [self._texture_use(use) for use in sampler_uses(self._frame)]

    def _texture_use(self, use: SamplerUse) -> TextureUse:
        numbers = use.textures.astype(np.uint64)
        calls = self._calls[use.steps]
        for unit in np.unique(use.units).tolist():
            mine = use.units == unit
            numbers[mine] = combined(numbers[mine], self._values.column("sampler", calls[mine], unit))
        return TextureUse(use.program, use.sampler, use.target == GL.TEXTURE_2D, use.steps, use.textures, numbers)

    @functools.cached_property
    def values(self) -> list[Detail]:
        found = []
        for name in np.unique(self._frame.steps.program).tolist():
            program = self._programs.get(name)
            if program is None:
                continue
            rows = np.flatnonzero(self._frame.steps.program == name)
            found += self._uniforms(program, rows)
            found += self._blocks(program, rows)
        return found

    def _uniforms(self, program: ProgramRecord, rows: Ints) -> list[Detail]:
        events = self._frame.history.events("uniform")
        found = []
        for uniform in program.uniforms:
            if uniform.type in sampler_targets():
                continue
            columns = [
                self._values.column("uniform", self._calls[rows], program.name, location)
                for location in uniform.locations
                if location >= 0 and events.span(program.name, location)[1]
            ]
            if columns:
                found.append(
                    Detail("uniform", uniform.name.removesuffix("[0]"), program.name, rows, combined(*columns))
                )
        return found

    def _blocks(self, program: ProgramRecord, rows: Ints) -> list[Detail]:
        found = []
        for target, blocks in ((GL.UNIFORM_BUFFER, program.blocks), (GL.SHADER_STORAGE_BUFFER, program.storage_blocks)):
            for name, (index, binding) in blocks.items():
                bindings = (
                    self._frame.history.column("block_binding", self._calls[rows], program.name, index, missing=binding)
                    if target == GL.UNIFORM_BUFFER
                    else np.full(len(rows), binding)
                )
                numbers = np.zeros(len(rows), np.uint64)
                for number in np.unique(bindings).tolist():
                    mine = bindings == number
                    calls = self._calls[rows[mine]]
                    column = self._values.column("indexed_buffer", calls, target, number)
                    buffers = self._frame.history.column("indexed_buffer", calls, target, number)
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

    def scalar_values(self, program: int, step: int, wanted: set[str]) -> dict[str, bool | int | float]:
        found: dict[str, bool | int | float] = {}
        record = self._programs[program]
        for uniform in record.uniforms:
            letter, count = uniform_type(uniform.type)
            name = uniform.name.removesuffix("[0]")
            if name not in wanted or len(letter) > 1 or len(uniform.locations) > 1:
                continue
            data = uniform_value(self._frame, record, uniform, int(self._calls[step]))
            values = np.frombuffer(data, _NUMBER_TYPES[letter])
            if uniform.type == GL.BOOL:
                found[name] = bool(values[0])
            elif count == 1:
                found[name] = values[0].item()
            else:
                found |= {f"{name}.{'xyzw'[k]}": values[k].item() for k in range(count)}
        return found

    def matrices(self, step: int) -> dict[str, npt.NDArray[np.float32]]:
        call, found = int(self._calls[step]), dict[str, npt.NDArray[np.float32]]()
        record = self._programs.get(int(self._frame.steps.program[step]))
        if record is None:
            return found
        for uniform in record.uniforms:
            if uniform.type == GL.FLOAT_MAT4 and len(uniform.locations) == 1:
                data = uniform_value(self._frame, record, uniform, call)
                found[uniform.name] = np.frombuffer(data, np.float32).reshape(4, 4)
        for name, (index, binding) in record.blocks.items():
            with contextlib.suppress(UnclearSourceError, UnknownContentsError):
                layout = block_layout(record, name, self._frame.context.dialect)
                chosen = self._frame.history.value("block_binding", call, record.name, index)
                at = chosen[0] if chosen else binding
                bound = self._frame.history.value("indexed_buffer", call, GL.UNIFORM_BUFFER, at)
                if not bound or not bound[0]:
                    continue
                contents = self._contents.at(bound[0], call)
                for member in layout.members:
                    start = bound[1] + member.offset
                    data = contents[start : start + 64]
                    if member.type == GL.FLOAT_MAT4 and member.count == 1 and len(data) == 64:
                        found[member.name] = np.frombuffer(data, np.float32).reshape(4, 4)
        return found

    def depth_range(self, step: int) -> tuple[float, float, bool]:
        history, call = self._frame.history, int(self._calls[step])
        raw = history.value_in_kinds("depth_range", call)
        near, far = (decoded("d", value) for value in raw[:2]) if raw else (0.0, 1.0)
        clip = history.value("clip_control", call)
        return near, far, bool(clip and clip[1] == GL.ZERO_TO_ONE)

    def block_bytes(self, program: int, block: str) -> int:
        with contextlib.suppress(UnclearSourceError):
            return block_layout(self._programs[program], block, self._frame.context.dialect).bytes
        return 0

    def uniform_bytes(self, program: int, uniforms: list[str], numbers: int, places: int) -> int:
        variables = {variable_of(name) for name in uniforms}  # a structure becomes data as a whole
        members = [
            ("", u.type, u.size, u.name.endswith("[0]"))
            for u in self._programs[program].uniforms
            if variable_of(u.name) in variables and fits(u.type)
        ]
        members += [("", GL.INT, 1, False)] * numbers + [("", GL.FLOAT_VEC4, 1, False)] * places
        return struct_layout(members)[1] if members else 0

    def buffer_texels(self, program: int) -> int:
        record, context = self._programs[program], self._frame.context
        versions = [version_of(shader.source, context.es) for shader in record.shaders]
        return buffer_texels(context, Offers(context), versions)

    # ---- geometry -------------------------------------------------------------------------------------

    @functools.cached_property
    def inputs(self) -> tuple[Ints, list[list[VertexInput]]]:
        steps, frame = self._frame.steps, self._frame
        arrays = frame.history.column("vertex_array", self._calls)
        versions = np.searchsorted(attribute_changes(frame), self._calls)
        of_array = combined(arrays.astype(np.uint64), versions.astype(np.uint64))
        # clears may come with the same array and program, and read neither
        first, which = numbered(combined(of_array, np.asarray(steps.program, np.uint64), self._draws.astype(np.uint64)))
        records = {v.name: v for v in frame.objects.vertex_arrays}
        plain: dict[int, list[VertexInput]] = {}
        names = {name: attribute_names(record) for name, record in self._programs.items()}
        inputs: list[list[VertexInput]] = []
        for step, key, array, program in zip(
            first.tolist(), of_array[first].tolist(), arrays[first].tolist(), steps.program[first].tolist(), strict=True
        ):
            if not self._draws[step]:
                inputs.append([])
                continue
            if key not in plain:
                plain[key] = array_inputs(frame, int(self._calls[step]), array, records.get(array), {})
            known = names.get(program)
            rows = plain[key]
            inputs.append(
                rows
                if known is None
                else [dataclasses.replace(row, name=known[row.index]) for row in rows if row.index in known]
            )
        return which, inputs

    @functools.cached_property
    def _buffer_numbers(self) -> dict[int, int]:
        """Buffer -> a number for its contents, where the frame does not write it: equal data is equal whatever its
        name.
        """
        return {
            b.name: (
                int(b.contents.hash[:15], 16)
                if b.contents and b.name not in self._writes
                else int(mixed(np.array([b.name], np.uint64))[0])
            )
            for b in self._frame.objects.buffers
        }

    @functools.cached_property
    def geometry(self) -> Numbers:
        return self._geometry(lambda attributes: [(a.index, a) for a in attributes])

    @functools.cached_property
    def mesh(self) -> Numbers:
        # programs that write depth alone read fewer attributes of the same mesh, or number them otherwise
        def chosen(attributes: list[VertexInput]) -> list[tuple[int, VertexInput]]:
            positions = holding_positions(attributes)
            return [(a.index, a) for a in attributes] if positions is None else [(0, positions)]

        return self._geometry(chosen)

    def _geometry(self, chosen: Callable[[list[VertexInput]], list[tuple[int, VertexInput]]]) -> Numbers:
        """The arguments of each draw with some of the attributes, each under a number."""
        frame, calls = self._frame, self._frame.calls
        numbers = np.zeros(len(self._calls), np.uint64)
        for command_id in np.unique(calls.ids[self._calls]).tolist():
            rows = np.flatnonzero(calls.ids[self._calls] == command_id)
            columns: list[Numbers | int] = [command_id]
            for parameter in tables().commands[command_id].parameters:
                column = calls.column(self._calls[rows], parameter.slot)
                if parameter.kind == "pointer":
                    column = blob_numbers(calls, column, calls.column(self._calls[rows], parameter.slot + 1))
                columns.append(column)
            if "Indirect" in tables().commands[command_id].name:
                at = self._calls[rows]
                arguments = frame.history.column("buffer", at, GL.DRAW_INDIRECT_BUFFER)
                columns += [arguments.astype(np.uint64), self._versions(arguments, at)]
            numbers[rows] = combined(*columns)
        known = self._buffer_numbers
        which, inputs = self.inputs
        read = [chosen(attributes) for attributes in inputs]
        shapes = [
            hash(
                tuple(
                    (place, a.size, a.type, a.normalized, a.integer, a.stride, a.offset, a.divisor)
                    + (known.get(a.buffer, a.buffer),)
                    for place, a in attributes
                )
            )
            & (1 << 63) - 1
            for attributes in read
        ]
        numbers = combined(numbers, np.array(shapes, np.uint64)[which] if shapes else numbers)
        for index, attributes in enumerate(read):
            for buffer in {a.buffer for _, a in attributes} & self.written_buffers:
                mine = self._rows_of(index)
                numbers[mine] = combined(
                    numbers[mine], np.searchsorted(self._writes[buffer], self._calls[mine]).astype(np.uint64)
                )
        elements = element_buffers(frame, self._calls)
        first, which_name = numbered(elements.astype(np.uint64))
        table = np.array([known.get(name, name) for name in elements[first].tolist()], np.uint64)
        return combined(numbers, table[which_name] if len(table) else numbers, self._versions(elements, self._calls))

    @functools.cached_property
    def _order(self) -> tuple[Ints, Ints]:
        which, inputs = self.inputs
        order = np.argsort(which, kind="stable")
        return order, np.searchsorted(which[order], np.arange(len(inputs) + 1))

    def _rows_of(self, index: int) -> Ints:
        order, bounds = self._order
        return order[bounds[index] : bounds[index + 1]]

    @functools.cached_property
    def layout(self) -> Numbers:
        which, inputs = self.inputs
        rows = [
            hash(tuple((a.index, a.size, a.type, a.normalized, a.integer, a.divisor) for a in attributes))
            & (1 << 63) - 1
            for attributes in inputs
        ]
        of_array = np.array(rows, np.uint64)[which] if rows else np.zeros(0, np.uint64)
        return combined(of_array, self.primitive.astype(np.uint64))

    @functools.cached_property
    def constant_inputs(self) -> Numbers:
        numbers = np.zeros(len(self._calls), np.uint64)
        for i, j in self._frame.history.keys("attribute_value"):
            numbers = combined(numbers, self._values.column("attribute_value", self._calls, i, j))
        return numbers

    @functools.cached_property
    def primitive(self) -> Ints:
        calls = self._frame.calls
        found = np.full(len(self._calls), int(Primitive.OTHER), np.int64)
        for command_id in np.unique(calls.ids[self._calls]).tolist():
            command = tables().commands[command_id]
            slot = next((p.slot for p in command.parameters if p.name == "mode"), None)
            if slot is None:
                continue
            rows = np.flatnonzero(calls.ids[self._calls] == command_id)
            modes = calls.column(self._calls[rows], slot).astype(np.int64)
            for mode in np.unique(modes).tolist():
                found[rows[modes == mode]] = _PRIMITIVES.get(mode, 100 + mode)
        return found

    @functools.cached_property
    def range_draw(self) -> Ints:
        found = np.zeros(len(self._calls), np.int64)
        if not Offers(self._frame.context)("glMultiDrawElements"):
            return found
        calls = self._frame.calls
        for name in _RANGES:
            command = tables()[name]
            rows = np.flatnonzero(calls.ids[self._calls] == command.id)
            modes = calls.column(self._calls[rows], command.parameter("mode").slot).astype(np.int64)
            found[rows] = (command.id + 1) << 32 | (modes & 0xFFFFFFFF)
        return found

    def unread_inputs(self, step: int) -> dict[int, int]:
        key = (int(self._frame.steps.program[step]), int(self.vertex_array[step]), int(self._attribute_versions[step]))
        if key not in self._unread:  # many steps fetch the same
            self._unread[key] = {row.index: row.bytes for row in vertex_inputs(self._frame, step) if not row.name}
        return self._unread[key]

    @functools.cached_property
    def _unread(self) -> dict[tuple[int, int, int], dict[int, int]]:
        return {}

    @functools.cached_property
    def _attribute_versions(self) -> Ints:
        changes = self._frame.history.change_calls(*OF_VERTEX_ARRAYS)
        return np.searchsorted(changes, self._calls)

    @property
    def _contents(self) -> BufferContents:
        return self._frame.buffer_contents

    def vertex_values(self, step: int, attribute: VertexInput) -> npt.NDArray[np.generic]:
        call, calls = int(self._calls[step]), self._frame.calls
        kind = attribute.dtype
        data = self._contents.at(attribute.buffer, call)
        if kind is None:
            return np.zeros((0, attribute.size))
        names = {p.name for p in calls.command(call).parameters}
        count = (len(data) - attribute.offset - attribute.bytes) // attribute.stride + 1
        first, last = 0, count
        if {"first", "count"} <= names and "indices" not in names:
            first = int(calls.argument(call, "first"))
            last = min(first + int(calls.argument(call, "count")), count)
        if first < 0 or last <= first:
            return np.zeros((0, attribute.size), kind)
        at = attribute.offset + first * attribute.stride
        strides = (attribute.stride, kind.itemsize)
        return np.ndarray((last - first, attribute.size), kind, data, at, strides)
