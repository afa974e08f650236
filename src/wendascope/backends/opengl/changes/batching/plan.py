"""What one batch consists of: the new objects, the calls in place of the steps, and the code to write for it."""

from __future__ import annotations

import functools
from collections.abc import Mapping
from dataclasses import dataclass

import msgspec
import numpy as np

from wendascope.backends.doors import Code
from wendascope.backends.opengl.calls.packed import CallBatch, Raw
from wendascope.backends.opengl.changes.batching.differences import ChangingBlock, Differences, plain_name
from wendascope.backends.opengl.changes.batching.emission import Emission
from wendascope.backends.opengl.changes.batching.explain import batch_code, calls_code
from wendascope.backends.opengl.changes.batching.merging import INSTANCED_DRAWS, Merged, merge
from wendascope.backends.opengl.changes.batching.new_objects import Gathered, NewObjects
from wendascope.backends.opengl.changes.batching.rewrite import DrawData, Names, Source, Store, rewrite
from wendascope.backends.opengl.changes.batching.texture_units import (
    LEAST_UNITS,
    Bound,
    SideBySide,
    check_one_sampler_object,
    side_by_side,
)
from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.backends.opengl.objects.buffer_textures import buffer_texels
from wendascope.backends.opengl.objects.records import (
    AttributeRecord,
    ImageRecord,
    ProgramRecord,
    TextureRecord,
    UniformRecord,
    VertexArrayRecord,
)
from wendascope.backends.opengl.objects.uniform_values import uniform_setters, uniform_value
from wendascope.backends.opengl.tables.vertex_inputs import vertex_inputs
from wendascope.errors import TrialError
from wendascope.frame.remedy import ATLAS, INSTANCE, MULTI_DRAW, UNITS, Part
from wendascope.glsl.std140 import Member, pack, struct_layout
from wendascope.registry import GL, tables

_FIRST_LOCATION, _FIRST_SAMPLER, _DATA_LOCATION = 0x6000_0000, 0x6800_0000, 0x6C00_0000
_BLOCK_INDEX = 0x6000_0000
_LEAST_BINDINGS = 36
_INSTANCED = {
    "glDrawArrays": "glDrawArraysInstanced",
    "glDrawElements": "glDrawElementsInstanced",
    "glDrawRangeElements": "glDrawElementsInstanced",
    "glDrawElementsBaseVertex": "glDrawElementsInstancedBaseVertex",
    **{name: name for name in INSTANCED_DRAWS},
}
_SEVERAL = {
    "glDrawArrays": "glMultiDrawArrays",
    "glDrawElements": "glMultiDrawElements",
    "glDrawRangeElements": "glMultiDrawElements",
    "glDrawElementsBaseVertex": "glMultiDrawElementsBaseVertex",
}


@dataclass
class BatchPlan:
    """One draw in place of several."""

    steps: list[int]
    calls: CallBatch
    """In place of the last step's call."""
    code: list[Code]
    new_bytes: int
    """Graphics memory of the new buffers and textures."""


def plan_batch(frame: OpenGLFrame, part: Part, new: NewObjects) -> BatchPlan:
    """Work out one draw for some steps that share program and state. Raises TrialError, saying what stands in the
    way.
    """
    steps = part.steps
    if any(frame.steps.kind_name(s) != "draw" or frame.steps.begin[s] != frame.steps.call[s] for s in steps):
        raise TrialError("only single draws can be drawn together")
    if any(int(frame.steps.instances[s]) != 1 for s in steps):
        raise TrialError("a draw of several instances cannot be drawn together with others here")
    return _Planner(frame, part, new).plan()


class _Planner:
    def __init__(self, frame: OpenGLFrame, part: Part, new: NewObjects) -> None:
        self._frame, self._steps, self._how, self._new = frame, sorted(part.steps), part.how, new
        self._textures = part.textures
        self._last = int(frame.steps.call[self._steps[-1]])
        self._out = Emission(frame, self._last)
        self._offers = self._out.offers
        self._bytes = 0

    def plan(self) -> BatchPlan:
        names = {int(self._frame.steps.program[s]) for s in self._steps}
        record = self._new.changed_programs.get(min(names)) or self._frame.objects.program(min(names))
        if len(names) > 1 or record is None:
            raise TrialError("the draws use the fixed-function pipeline, or different programs")
        if self._how == MULTI_DRAW:
            code = self._multi_draw()
        else:
            code = self._with_draw_data(record)
        return BatchPlan(self._steps, self._out.finish(), code, self._bytes)

    # ---- several ranges ---------------------------------------------------------------------------------

    def _multi_draw(self) -> list[Code]:
        calls, steps = self._frame.calls, self._frame.steps
        rows = [int(steps.call[s]) for s in self._steps]
        names = {calls.command(c).name for c in rows}
        name = names.pop()
        if names or name not in _SEVERAL or not self._offers(_SEVERAL[name]):
            raise TrialError(
                f"several ranges in one call need {_SEVERAL.get(name, 'draws of one kind')}, which this context does"
                " not have"
            )
        counts = np.array([calls.argument(c, "count") for c in rows], np.int32).tobytes()
        mode = calls.argument(rows[0], "mode")
        if name == "glDrawArrays":
            firsts = np.array([calls.argument(c, "first") for c in rows], np.int32).tobytes()
            self._out.call("glMultiDrawArrays", mode, firsts, counts, len(rows))
        else:
            given = [calls.argument(c, "indices") for c in rows]
            if any(isinstance(g, bytes) for g in given):
                raise TrialError("the indices lie in the program's own memory; put them into a buffer first")
            offsets = np.array([g.value if isinstance(g, Raw) else 0 for g in given], np.uint64).tobytes()
            more = (
                [np.array([calls.argument(c, "basevertex") for c in rows], np.int32).tobytes()]
                if "BaseVertex" in name
                else []
            )
            self._out.call(_SEVERAL[name], mode, counts, calls.argument(rows[0], "type"), offsets, len(rows), *more)
        return [calls_code(self._frame, self._steps, self._out.text)]

    # ---- data of each draw --------------------------------------------------------------------------------

    def _with_draw_data(self, record: ProgramRecord) -> list[Code]:
        differences = Differences(self._frame, self._steps, self._new.known_contents)
        sources = differences.sources(record)
        varying, values = differences.varying(record)
        changing = differences.changing_blocks(record)
        for block in changing:
            values |= block.values
        differing, inputs = differences.differing_textures(self._textures == UNITS)
        several = side_by_side(self._frame, differing, inputs) if self._textures == UNITS else {}
        blocks = all(s.version.has_blocks for s in sources.values())
        instanced = self._how == INSTANCE and blocks
        words = set[str]().union(*(s.globals.words() for s in sources.values()))
        differences.check_counting(sources, instanced)
        names = Names.free_of(words)
        gathered = {} if several else self._gathered(differing, sources)
        members, stride = self._members(varying, gathered, several, changing, names)
        places = {plain_name(u.name): u.name.removesuffix("[0]") for u in varying}
        for block in changing:
            places |= block.places
        in_arrays, on_pages = (
            tuple(s for s, g in gathered.items() if bool(g.places) == paged) for paged in (False, True)
        )
        data = DrawData(
            tuple(members),
            places,
            in_arrays,
            on_pages,
            {sampler: len(found.bound) for sampler, found in several.items()},
            {b.name: b.instance for b in changing},
            stride,
            len(self._steps),
            instanced,
            self._store(sources, stride),
            names,
        )
        for sampler, bound in differing.items():
            if sampler in several:
                values[names.unit_of(sampler)] = [several[sampler].value(b) for b in bound]
            else:
                member = names.place_of(sampler) if sampler in on_pages else names.layer_of(sampler)
                values[member] = [gathered[sampler].value(b.texture) for b in bound]
        fragments = sources.get(GL.FRAGMENT_SHADER)
        in_fragments = fragments is not None and bool(
            fragments.declared(data.variables | set(differing)) or fragments.in_blocks(data.blocks)
        )
        changed = {stage: rewrite(s, data, in_fragments) for stage, s in sources.items()}
        program = self._program(record, changed, varying, data)
        if data.store == Store.BLOCK and members:
            self._fill_block(program, data, values)
        self._use(record, program, {u.name for u in varying} | several.keys())
        if data.store == Store.ARRAYS:
            self._fill_arrays(program, data, values)
        if data.store == Store.TEXELS:
            taken = {item.unit for item in inputs} | {unit for item in several.values() for unit in item.units}
            self._fill_texels(data, values, taken)
        self._bind_textures(gathered, {item.uniform: item.unit for item in inputs})
        self._bind_side_by_side(several, program, names)
        if instanced:
            self._draw_instances()
        else:
            self._draw_merged(program, names, not next(iter(sources.values())).version.has_flat)
        return batch_code(calls_code(self._frame, self._steps, self._out.text), sources, changed, data)

    def _store(self, sources: Mapping[int, Source], stride: int) -> Store:
        """Where the data of all draws goes. Raises TrialError where it is too much for all that there is."""
        needed = stride * len(self._steps)
        if not all(source.version.has_blocks for source in sources.values()):
            return Store.ARRAYS
        block = self._frame.context.limits.get("MAX_UNIFORM_BLOCK_SIZE", 16384)
        if needed <= block:
            return Store.BLOCK
        texels = buffer_texels(self._frame.context, self._offers, [source.version for source in sources.values()])
        if needed <= 16 * texels:
            return Store.TEXELS
        what = f", and a buffer texture {16 * texels:,}" if texels else ""
        raise TrialError(
            f"the data of {len(self._steps):,} draws needs {needed:,} bytes, and a uniform block here has"
            f" {block:,}{what}"
        )

    def _gathered(self, differing: dict[str, list[Bound]], sources: dict[int, Source]) -> dict[str, Gathered]:
        """The textures of each sampler in one: an array where that can be, and is wanted, else an atlas page."""
        check_one_sampler_object(differing)
        offered = all(s.version.has_arrays for s in sources.values()) and bool(self._offers.value(GL.TEXTURE_2D_ARRAY))
        arrays = offered and self._textures != ATLAS
        return {
            sampler: self._new.gathered(list(dict.fromkeys(b.texture for b in bound)), arrays)
            for sampler, bound in differing.items()
        }

    def _members(
        self,
        varying: list[UniformRecord],
        gathered: dict[str, Gathered],
        several: dict[str, SideBySide],
        changing: list[ChangingBlock],
        names: Names,
    ) -> tuple[list[Member], int]:
        rows = [(plain_name(u.name), u.type, len(u.locations), u.name.endswith("[0]")) for u in varying]
        rows += [
            (names.place_of(s), GL.FLOAT_VEC4, 1, False) if g.places else (names.layer_of(s), GL.INT, 1, False)
            for s, g in gathered.items()
        ]
        rows += [(names.unit_of(s), GL.INT, 1, False) for s in several]
        rows += [row for block in changing for row in block.rows]
        if len({row[0] for row in rows}) != len(rows):
            raise TrialError("uniforms and members of blocks have names that cannot be told apart")
        return struct_layout(rows) if rows else ([], 0)

    def _program(
        self,
        record: ProgramRecord,
        changed: dict[int, str],
        varying: list[UniformRecord],
        data: DrawData,
    ) -> ProgramRecord:
        """The program with the changed shaders, as a new object."""
        gone = {u.name for u in varying}
        uniforms = [u for u in record.uniforms if u.name not in gone and u.name not in data.several]
        uniforms += self._unit_samplers(record, data)
        attributes = dict(record.attributes)
        if not data.by_instance:
            taken = {a.index for a in vertex_inputs(self._frame, self._steps[-1])} | {
                v for v in attributes.values() if v >= 0
            }
            free = [
                i for i in range(min(self._frame.context.limits.get("MAX_VERTEX_ATTRIBS", 16), 16)) if i not in taken
            ]
            if not free:
                raise TrialError("the program uses every vertex attribute there is")
            attributes[data.names.attribute] = free[-1]
        program_blocks = {name: place for name, place in record.blocks.items() if name not in data.blocks}
        if data.members and data.store == Store.BLOCK:
            program_blocks[data.names.block] = (_BLOCK_INDEX, self._free_binding())
        elif data.store == Store.TEXELS:
            uniforms.append(UniformRecord(data.names.array, GL.UNSIGNED_INT_SAMPLER_BUFFER, 1, [_DATA_LOCATION]))
        elif data.members:
            uniforms += [
                UniformRecord(f"{m.name}_of_draw[0]", m.type, data.draws, [_FIRST_LOCATION + 4096 * k])
                for k, m in enumerate(data.members)
            ]
        shaders = [msgspec.structs.replace(s, source=changed[s.type], name=0) for s in record.shaders]
        made = msgspec.structs.replace(
            record,
            name=self._new.name(),
            shaders=shaders,
            uniforms=uniforms,
            attributes=attributes,
            blocks=program_blocks,
            linked=True,
        )
        self._new.objects.programs.append(made)
        return made

    def _unit_samplers(self, record: ProgramRecord, data: DrawData) -> list[UniformRecord]:
        """A sampler for each of the textures that are bound side by side."""
        types = {u.name: u.type for u in record.uniforms}
        names = [(sampler, k) for sampler, count in data.several.items() for k in range(count)]
        return [
            UniformRecord(data.names.sampler(sampler, k), types[sampler], 1, [_FIRST_SAMPLER + 4096 * number])
            for number, (sampler, k) in enumerate(names)
        ]

    def _free_binding(self) -> int:
        """A binding of uniform blocks that the frame does not use."""
        events = self._frame.history.events("indexed_buffer")
        inside = set(events.keys[(events.calls >= 0) | (events.values[:, 0] != 0)].tolist())
        most = max(self._frame.context.limits.get("MAX_UNIFORM_BUFFER_BINDINGS", _LEAST_BINDINGS), _LEAST_BINDINGS)
        for index in reversed(range(most)):
            if GL.UNIFORM_BUFFER << 32 | index not in inside:
                return index
        raise TrialError("the frame uses every binding of uniform blocks")

    # ---- calls ----------------------------------------------------------------------------------------

    def _packed(self, data: DrawData, values: dict[str, list[bytes]]) -> bytes:
        """The data of all draws, one structure after the other."""
        by_name = {plain_name(name): each for name, each in values.items()}
        whole = np.zeros((data.draws, data.stride), np.uint8)
        for member in data.members:
            each = [pack(member, value) for value in by_name[member.name]]
            whole[:, member.offset : member.offset + len(each[0])] = np.frombuffer(b"".join(each), np.uint8).reshape(
                data.draws, -1
            )
        return whole.tobytes()

    def _fill_block(self, program: ProgramRecord, data: DrawData, values: dict[str, list[bytes]]) -> None:
        """Upload the data of all draws, as a program does whose values change with every frame."""
        buffer, size = self._upload(GL.UNIFORM_BUFFER, self._packed(data, values), "per_draw_buffer")
        self._bytes += size
        _, binding = program.blocks[data.names.block]
        self._out.call("glBindBufferBase", GL.UNIFORM_BUFFER, binding, buffer)

    def _fill_texels(self, data: DrawData, values: dict[str, list[bytes]], taken: set[int]) -> None:
        """The same as a buffer texture, on a unit that nothing else is read from."""
        unit = next((unit for unit in reversed(range(LEAST_UNITS)) if unit not in taken), None)
        if unit is None:
            raise TrialError("the program reads every texture unit there is")
        buffer, size = self._upload(GL.ARRAY_BUFFER, self._packed(data, values), "per_draw_buffer")
        self._bytes += size
        image = ImageRecord(GL.TEXTURE_BUFFER, 0, 0, 1, 1, GL.RGBA32UI)
        texture = TextureRecord(self._new.name(), GL.TEXTURE_BUFFER, [image], buffer=buffer)
        self._new.objects.textures.append(texture)
        self._out.words[texture.name] = "per_draw_texels"
        active = self._out.value("active_texture") or GL.TEXTURE0
        self._out.locations[_DATA_LOCATION] = data.names.array
        self._out.call("glUniform1i", _DATA_LOCATION, unit)
        self._out.call("glActiveTexture", GL.TEXTURE0 + unit)
        self._out.call("glBindTexture", GL.TEXTURE_BUFFER, texture.name)
        self._out.call("glActiveTexture", active)
        self._out.undo.append(lambda: self._out.call("glActiveTexture", active, quiet=True))
        self._out.undo.append(functools.partial(self._out.bind_again, GL.TEXTURE0 + unit, GL.TEXTURE_BUFFER))

    def _use(self, record: ProgramRecord, program: ProgramRecord, varying: set[str]) -> None:
        """Use the new program, with every uniform that the frame sets as the last step finds it."""
        self._out.words[program.name] = "program_for_all"
        self._out.locations = {u.locations[0]: u.name.removesuffix("[0]") for u in program.uniforms if u.locations}
        self._out.call("glUseProgram", program.name)
        self._out.undo.append(lambda: self._out.call("glUseProgram", record.name, quiet=True))
        for uniform in record.uniforms:
            if uniform.name in varying or not uniform_setters(self._frame, record, uniform, self._last):
                continue
            value = uniform_value(self._frame, record, uniform, self._last)
            self._out.set_uniform(uniform, uniform.locations[0], len(uniform.locations), value)
        for name, (index, _) in record.blocks.items():
            if name not in program.blocks:
                continue
            setter = self._frame.history.setter("block_binding", self._last, record.name, index)
            if setter is not None and setter >= 0:
                self._out.call(
                    "glUniformBlockBinding",
                    program.name,
                    index,
                    self._out.value("block_binding", record.name, index),
                )

    def _fill_arrays(self, program: ProgramRecord, data: DrawData, values: dict[str, list[bytes]]) -> None:
        """The same for GLSL without blocks: arrays of plain uniforms."""
        by_name = {plain_name(name): each for name, each in values.items()}
        for uniform in program.uniforms:
            base = uniform.name.removesuffix("_of_draw[0]")
            if uniform.locations and uniform.locations[0] >= _FIRST_LOCATION and base in by_name:
                self._out.set_uniform(uniform, uniform.locations[0], data.draws, b"".join(by_name[base]))

    def _bind_side_by_side(self, several: dict[str, SideBySide], program: ProgramRecord, names: Names) -> None:
        """Bind every texture to its unit, and put back what was there."""
        if not several:
            return
        active = self._out.value("active_texture") or GL.TEXTURE0
        locations = {u.name: u.locations[0] for u in program.uniforms if u.locations}
        samplers = self._offers("glBindSampler")
        for sampler, found in several.items():
            for number, (bound, unit) in enumerate(zip(found.bound, found.units, strict=True)):
                self._out.call("glUniform1i", locations[names.sampler(sampler, number)], unit)
                self._out.call("glActiveTexture", GL.TEXTURE0 + unit)
                self._out.call("glBindTexture", GL.TEXTURE_2D, bound.texture)
                self._out.undo.append(functools.partial(self._out.bind_again, GL.TEXTURE0 + unit, GL.TEXTURE_2D))
                before = self._out.value("sampler", unit)
                if samplers and before != bound.sampler:
                    self._out.call("glBindSampler", unit, bound.sampler)
                    self._out.undo.append(functools.partial(self._out.call, "glBindSampler", unit, before, quiet=True))
        self._out.undo.insert(0, lambda: self._out.call("glActiveTexture", active, quiet=True))

    def _bind_textures(self, gathered: dict[str, Gathered], units: dict[str, int]) -> None:
        if not gathered:
            return
        active = self._out.value("active_texture") or GL.TEXTURE0
        for sampler, found in gathered.items():
            self._bytes += found.new_bytes
            unit = GL.TEXTURE0 + units[sampler]
            self._out.words[found.name] = f"{sampler}_page" if found.places else f"{sampler}_array"
            self._out.call("glActiveTexture", unit)
            self._out.call("glBindTexture", found.target, found.name)
            self._out.undo.append(functools.partial(self._out.bind_again, unit, found.target))
        self._out.undo.insert(0, lambda: self._out.call("glActiveTexture", active, quiet=True))

    def _draw_instances(self) -> None:
        calls = self._frame.calls
        name = calls.command(self._last).name
        wanted = _INSTANCED.get(name, "")
        if not wanted or not self._offers(wanted):
            raise TrialError(f"{name} has no form for instances in this context")
        if any(row.divisor and row.name for row in vertex_inputs(self._frame, self._steps[-1])):
            raise TrialError("an attribute is one of each instance already")
        given = {p.name: calls.argument(self._last, p.name) for p in calls.command(self._last).parameters}
        order = [p.name for p in tables()[wanted].parameters]
        self._out.call(wanted, *(len(self._steps) if n in ("instancecount", "primcount") else given[n] for n in order))

    def _draw_merged(self, program: ProgramRecord, names: Names, floats: bool) -> None:
        if not self._offers("glBindVertexArray"):
            raise TrialError("this context has no vertex array objects to put the merged vertices into")
        merged = merge(self._frame, self._steps, self._new.known_contents(), floats)
        if merged.from_memory:
            vertices, size = self._upload(GL.ARRAY_BUFFER, merged.vertices, "merged_vertices")
        else:
            vertices, size = self._new.buffer(merged.vertices)
        small = merged.count <= 0xFFFF
        indices, index_size = self._new.buffer(merged.indices.astype(np.uint16 if small else np.uint32).tobytes())
        self._bytes += size + index_size
        array = self._array(merged, vertices, indices, program.attributes[names.attribute], floats)
        before = self._out.value("vertex_array")
        self._out.words[array] = "merged_vertex_array"
        self._out.call("glBindVertexArray", array)
        self._out.undo.append(lambda: self._out.call("glBindVertexArray", before, quiet=True))
        self._out.call(
            "glDrawElements", merged.mode, len(merged.indices), GL.UNSIGNED_SHORT if small else GL.UNSIGNED_INT, Raw(0)
        )

    def _upload(self, target: int, data: bytes, called: str) -> tuple[int, int]:
        """(name, bytes) of a buffer that gets its contents anew in every frame."""
        buffer, size = self._new.buffer(bytes(len(data)), GL.STREAM_DRAW, shared=False)
        self._out.words[buffer] = called
        before = self._out.value("buffer", target)
        self._out.call("glBindBuffer", target, buffer)
        self._out.call("glBufferSubData", target, 0, len(data), data)
        self._out.undo.append(lambda: self._out.call("glBindBuffer", target, before, quiet=True))
        return buffer, size

    def _array(self, merged: Merged, vertices: int, indices: int, number_at: int, floats: bool) -> int:
        rows = [
            AttributeRecord(
                a.source.index,
                True,
                a.source.size,
                a.source.type,
                a.source.normalized,
                a.source.integer,
                False,
                merged.stride,
                a.offset,
                0,
                vertices,
            )
            for a in merged.attributes
        ]
        rows.append(
            AttributeRecord(
                number_at,
                True,
                1,
                GL.FLOAT if floats else GL.INT,
                False,
                not floats,
                False,
                merged.stride,
                merged.number_offset,
                0,
                vertices,
            )
        )
        record = VertexArrayRecord(self._new.name(), rows, indices)
        self._new.objects.vertex_arrays.append(record)
        return record.name
