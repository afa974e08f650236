"""What one batch consists of: the new objects, the calls in place of the steps, and the code to write for it."""

from __future__ import annotations

import contextlib
import functools
import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass

import msgspec
import numpy as np

from wendascope.backends.doors import Code
from wendascope.backends.opengl.calls.packed import CallBatch, Raw
from wendascope.backends.opengl.changes.batching.merging import INSTANCED_DRAWS, Merged, merge
from wendascope.backends.opengl.changes.batching.new_objects import Gathered, NewObjects
from wendascope.backends.opengl.changes.batching.rewrite import STAGES, DrawData, Names, Source, Store, rewrite
from wendascope.backends.opengl.changes.batching.texture_units import (
    LEAST_UNITS,
    Bound,
    SideBySide,
    bound_at,
    check_one_sampler_object,
    side_by_side,
)
from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.backends.opengl.objects.buffer_textures import buffer_texels
from wendascope.backends.opengl.objects.formats import uniform_type
from wendascope.backends.opengl.objects.records import (
    AttributeRecord,
    ImageRecord,
    ProgramRecord,
    TextureRecord,
    UniformRecord,
    VertexArrayRecord,
    sampler_targets,
)
from wendascope.backends.opengl.objects.subroutines import chooses_subroutines
from wendascope.backends.opengl.objects.uniform_blocks import block_layout
from wendascope.backends.opengl.objects.uniform_values import uniform_setters, uniform_value, variable_of
from wendascope.backends.opengl.state.offers import Offers
from wendascope.backends.opengl.tables.inputs import TextureInput, texture_inputs
from wendascope.backends.opengl.tables.vertex_inputs import vertex_inputs
from wendascope.backends.opengl.words.describe import argument_text
from wendascope.errors import MachineError, TrialError
from wendascope.frame.remedy import ATLAS, INSTANCE, MULTI_DRAW, UNITS, Part
from wendascope.frame.uses import UnknownContentsError
from wendascope.glsl.compiler import CompileError, compile_glsl
from wendascope.glsl.globals import UnclearSourceError
from wendascope.glsl.preprocessor import compiled_text
from wendascope.glsl.spirv import BadModuleError, read_module
from wendascope.glsl.std140 import Member, fits, pack, struct_layout, unpack
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


@dataclass(frozen=True)
class ChangingBlock:
    """A uniform block that becomes data of each draw."""

    name: str
    instance: str
    rows: list[tuple[str, int, int, bool]]
    """Its members as `struct_layout` takes them, by the names they get."""
    places: dict[str, str]
    values: dict[str, list[bytes]]
    """Member -> its value at each step."""


def _plain(uniform: str) -> str:
    """The name of a uniform as that of a member: parts of structures run together."""
    return re.sub(r"\W+", "_", uniform.removesuffix("[0]"))


def _member_name(uniform: UniformRecord) -> str:
    return _plain(uniform.name)


class _Planner:
    def __init__(self, frame: OpenGLFrame, part: Part, new: NewObjects) -> None:
        self._frame, self._steps, self._how, self._new = frame, sorted(part.steps), part.how, new
        self._textures = part.textures
        self._offers = Offers(frame.context)
        self._last = int(frame.steps.call[self._steps[-1]])
        self._calls = CallBatch(self._offers)
        self._lines: list[str] = []
        self._undo: list[Callable[[], None]] = []
        self._words: dict[int, str] = {}
        """What new objects are called in the code that is shown."""
        self._locations: dict[int, str] = {}
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
        for undo in reversed(self._undo):
            undo()
        return BatchPlan(self._steps, self._calls, code, self._bytes)

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
            self._emit("glMultiDrawArrays", mode, firsts, counts, len(rows))
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
            self._emit(_SEVERAL[name], mode, counts, calls.argument(rows[0], "type"), offsets, len(rows), *more)
        return [self._calls_code()]

    # ---- data of each draw --------------------------------------------------------------------------------

    def _with_draw_data(self, record: ProgramRecord) -> list[Code]:
        sources = self._sources(record)
        varying, values = self._varying(record)
        changing = self._changing_blocks(record)
        for block in changing:
            values |= block.values
        differing, inputs = self._differing_textures()
        several = side_by_side(self._frame, differing, inputs) if self._textures == UNITS else {}
        blocks = all(s.version.has_blocks for s in sources.values())
        instanced = self._how == INSTANCE and blocks
        words = set[str]().union(*(s.globals.words() for s in sources.values()))
        self._check_counting(sources, instanced)
        names = Names.free_of(words)
        gathered = {} if several else self._gathered(differing, sources)
        members, stride = self._members(varying, gathered, several, changing, names)
        places = {_member_name(u): u.name.removesuffix("[0]") for u in varying}
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
        return self._code(sources, changed, data)

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

    def _sources(self, record: ProgramRecord) -> dict[int, Source]:
        if record.binary or any(s.spirv for s in record.shaders):
            raise TrialError("the program was loaded as binary or SPIR-V: there is no source to rewrite")
        others = [s for s in record.shaders if s.type not in STAGES]
        if others:
            raise TrialError(
                "the program has geometry or tessellation shaders, through which the number of the draw would have to"
                " be handed"
            )
        if len({s.type for s in record.shaders}) != len(record.shaders) or not record.shaders:
            raise TrialError("a stage of the program is put together from several shaders")
        if record.feedback_varyings:
            raise TrialError("the program feeds its vertices back")
        if chooses_subroutines(record):
            raise TrialError("the program has subroutines, and what is chosen of them does not come along")
        context = self._frame.context
        return {s.type: Source(s.type, compiled_text(s.source, context.dialect), context.es) for s in record.shaders}

    def _check_counting(self, sources: Mapping[int, Source], instanced: bool) -> None:
        """Raises TrialError where a shader reads what counts on through a batch, by its compiled module: words may
        stand in functions that nothing calls.
        """
        counting = {"gl_InstanceID", "gl_PrimitiveID", "gl_DrawID", "gl_BaseVertex", "gl_BaseInstance"}
        counting |= set() if instanced else {"gl_VertexID"}
        for stage, source in sources.items():
            read = counting & source.globals.words()
            if read:
                with contextlib.suppress(CompileError, MachineError, BadModuleError):
                    module = read_module(compile_glsl(source.text, stage, self._frame.context.dialect))
                    read &= module.loaded()
            if read:
                raise TrialError(f"the shaders use {min(read)}, which would count on through the whole batch")

    def _varying(self, record: ProgramRecord) -> tuple[list[UniformRecord], dict[str, list[bytes]]]:
        """(uniforms that differ between the steps, their value at each step by name)."""
        frame = self._frame
        calls = [int(frame.steps.call[s]) for s in self._steps]
        values: dict[str, list[bytes]] = {}
        variables = set()
        for uniform in record.uniforms:
            if uniform.type in sampler_targets():
                continue
            setters = [uniform_setters(frame, record, uniform, c) for c in calls]
            if all(s == setters[0] for s in setters):
                continue
            each = [uniform_value(frame, record, uniform, c) for c in calls]
            if any(v != each[0] for v in each):
                variables.add(variable_of(uniform.name))
                values[uniform.name] = each
        # of a structure all parts become data: a variable is filled wholly or not at all
        found = [u for u in record.uniforms if variable_of(u.name) in variables]
        for uniform in found:
            if uniform.type in sampler_targets() or not fits(uniform.type):
                raise TrialError(
                    f"{uniform.name} lies in a structure that differs from step to step, or is of a type that no"
                    " block has"
                )
            if uniform.name not in values:
                values[uniform.name] = [uniform_value(frame, record, uniform, c) for c in calls]
        if len({_member_name(u) for u in found}) != len(found):
            raise TrialError("the names of parts of structures cannot be told apart")
        return found, values

    def _changing_blocks(self, record: ProgramRecord) -> list[ChangingBlock]:
        """Uniform blocks whose contents differ between the steps, taken apart into their members."""
        found = []
        for name, (index, binding) in record.blocks.items():
            each = [self._block_data(record, index, binding, int(self._frame.steps.call[s])) for s in self._steps]
            if all(data == each[0] for data in each):
                continue
            try:
                layout = block_layout(record, name, self._frame.context.dialect)
            except UnclearSourceError as error:
                raise TrialError(f"what differs from step to step lies in a block: {error}") from error
            if any(len(data) < layout.last_byte for data in each):
                raise TrialError(f"block {name} reaches beyond the end of its buffer")
            instance, members = layout.instance, layout.members
            prefix = f"{instance}_" if instance else ""
            found.append(
                ChangingBlock(
                    name,
                    instance,
                    [(prefix + member, type_, count, array) for member, type_, count, array in layout.rows],
                    {prefix + m.name: (f"{instance}." if instance else "") + m.name for m in members},
                    {prefix + m.name: [unpack(m, data) for data in each] for m in members},
                )
            )
        return found

    def _block_data(self, record: ProgramRecord, index: int, binding: int, call: int) -> bytes:
        """What a block holds when a call comes. Raises TrialError where only the GPU knows."""
        history = self._frame.history
        chosen = history.value("block_binding", call, record.name, index)
        bound = history.value("indexed_buffer", call, GL.UNIFORM_BUFFER, chosen[0] if chosen else binding)
        if bound is None or not bound[0]:
            return b""
        buffer, offset, size = (int(v) for v in bound[:3])
        try:
            data = self._new.known_contents().at(buffer, call)
        except UnknownContentsError as error:
            raise TrialError(f"{error} writes a uniform block: what is in it only the GPU knows") from error
        return data[offset : offset + size] if size else data[offset:]

    def _differing_textures(self) -> tuple[dict[str, list[Bound]], list[TextureInput]]:
        """(sampler -> what it reads at each step, for samplers whose textures differ; all that the last step reads)."""
        rows = [texture_inputs(self._frame, s) for s in self._steps]
        found = {}
        for at, last in enumerate(rows[-1]):
            bound = [bound_at(self._frame, step, row[at]) for step, row in zip(self._steps, rows, strict=True)]
            if len(set(bound)) == 1:
                continue
            if last.target != GL.TEXTURE_2D or "[" in last.uniform or "." in last.uniform:
                raise TrialError(f"the textures of {last.uniform} differ and are not plain two-dimensional ones")
            if len({row[at].unit for row in rows}) > 1 and self._textures != UNITS:
                raise TrialError(f"{last.uniform} reads from different units")
            found[last.uniform] = bound
        return found, rows[-1]

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
        rows = [(_member_name(u), u.type, len(u.locations), u.name.endswith("[0]")) for u in varying]
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

    def _emit(self, name: str, *arguments: object, quiet: bool = False) -> None:
        self._calls.call(name, *arguments)
        if quiet:
            return
        texts = []
        for parameter, value in zip(tables()[name].parameters, arguments, strict=True):
            if isinstance(value, bytes) and len(value) > 64:
                texts.append(parameter.name)
            elif parameter.name == "location" and isinstance(value, int):
                texts.append(self._locations.get(value, str(value)))
            elif isinstance(value, int) and value in self._words:
                texts.append(self._words[value])
            else:
                texts.append(argument_text(parameter, value))
        self._lines.append(f"{name}({', '.join(texts)});")

    def _value(self, pattern: str, i: int = 0, j: int = 0) -> int:
        return int(self._frame.history.number(pattern, self._last, i, j))

    def _packed(self, data: DrawData, values: dict[str, list[bytes]]) -> bytes:
        """The data of all draws, one structure after the other."""
        by_name = {_plain(name): each for name, each in values.items()}
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
        self._emit("glBindBufferBase", GL.UNIFORM_BUFFER, binding, buffer)

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
        self._words[texture.name] = "per_draw_texels"
        active = self._value("active_texture") or GL.TEXTURE0
        self._locations[_DATA_LOCATION] = data.names.array
        self._emit("glUniform1i", _DATA_LOCATION, unit)
        self._emit("glActiveTexture", GL.TEXTURE0 + unit)
        self._emit("glBindTexture", GL.TEXTURE_BUFFER, texture.name)
        self._emit("glActiveTexture", active)
        self._undo.append(lambda: self._emit("glActiveTexture", active, quiet=True))
        self._undo.append(functools.partial(self._rebind, GL.TEXTURE0 + unit, GL.TEXTURE_BUFFER))

    def _use(self, record: ProgramRecord, program: ProgramRecord, varying: set[str]) -> None:
        """Use the new program, with every uniform that the frame sets as the last step finds it."""
        self._words[program.name] = "program_for_all"
        self._locations = {u.locations[0]: u.name.removesuffix("[0]") for u in program.uniforms if u.locations}
        self._emit("glUseProgram", program.name)
        self._undo.append(lambda: self._emit("glUseProgram", record.name, quiet=True))
        for uniform in record.uniforms:
            if uniform.name in varying or not uniform_setters(self._frame, record, uniform, self._last):
                continue
            value = uniform_value(self._frame, record, uniform, self._last)
            self._set(uniform, uniform.locations[0], len(uniform.locations), value)
        for name, (index, _) in record.blocks.items():
            if name not in program.blocks:
                continue
            setter = self._frame.history.setter("block_binding", self._last, record.name, index)
            if setter is not None and setter >= 0:
                self._emit(
                    "glUniformBlockBinding", program.name, index, self._value("block_binding", record.name, index)
                )

    def _set(self, uniform: UniformRecord, location: int, count: int, value: bytes) -> None:
        letter, values = uniform_type(uniform.type)
        if len(letter) > 1:
            self._emit(f"glUniformMatrix{letter[1:]}{letter[0]}v", location, count, 0, value)
        else:
            self._emit(f"glUniform{values}{ {'u': 'ui'}.get(letter, letter) }v", location, count, value)

    def _fill_arrays(self, program: ProgramRecord, data: DrawData, values: dict[str, list[bytes]]) -> None:
        """The same for GLSL without blocks: arrays of plain uniforms."""
        by_name = {_plain(name): each for name, each in values.items()}
        for uniform in program.uniforms:
            base = uniform.name.removesuffix("_of_draw[0]")
            if uniform.locations and uniform.locations[0] >= _FIRST_LOCATION and base in by_name:
                self._set(uniform, uniform.locations[0], data.draws, b"".join(by_name[base]))

    def _bind_side_by_side(self, several: dict[str, SideBySide], program: ProgramRecord, names: Names) -> None:
        """Bind every texture to its unit, and put back what was there."""
        if not several:
            return
        active = self._value("active_texture") or GL.TEXTURE0
        locations = {u.name: u.locations[0] for u in program.uniforms if u.locations}
        samplers = self._offers("glBindSampler")
        for sampler, found in several.items():
            for number, (bound, unit) in enumerate(zip(found.bound, found.units, strict=True)):
                self._emit("glUniform1i", locations[names.sampler(sampler, number)], unit)
                self._emit("glActiveTexture", GL.TEXTURE0 + unit)
                self._emit("glBindTexture", GL.TEXTURE_2D, bound.texture)
                self._undo.append(functools.partial(self._rebind, GL.TEXTURE0 + unit, GL.TEXTURE_2D))
                before = self._value("sampler", unit)
                if samplers and before != bound.sampler:
                    self._emit("glBindSampler", unit, bound.sampler)
                    self._undo.append(functools.partial(self._emit, "glBindSampler", unit, before, quiet=True))
        self._undo.insert(0, lambda: self._emit("glActiveTexture", active, quiet=True))

    def _bind_textures(self, gathered: dict[str, Gathered], units: dict[str, int]) -> None:
        if not gathered:
            return
        active = self._value("active_texture") or GL.TEXTURE0
        for sampler, found in gathered.items():
            self._bytes += found.new_bytes
            unit = GL.TEXTURE0 + units[sampler]
            self._words[found.name] = f"{sampler}_page" if found.places else f"{sampler}_array"
            self._emit("glActiveTexture", unit)
            self._emit("glBindTexture", found.target, found.name)
            self._undo.append(functools.partial(self._rebind, unit, found.target))
        self._undo.insert(0, lambda: self._emit("glActiveTexture", active, quiet=True))

    def _rebind(self, unit: int, target: int) -> None:
        """What was bound there before: an array that nobody read stays."""
        if target in (GL.TEXTURE_2D, GL.TEXTURE_BUFFER):
            self._emit("glActiveTexture", unit, quiet=True)
            self._emit("glBindTexture", target, self._value("texture", unit, target), quiet=True)

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
        self._emit(wanted, *(len(self._steps) if n in ("instancecount", "primcount") else given[n] for n in order))

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
        before = self._value("vertex_array")
        self._words[array] = "merged_vertex_array"
        self._emit("glBindVertexArray", array)
        self._undo.append(lambda: self._emit("glBindVertexArray", before, quiet=True))
        self._emit(
            "glDrawElements", merged.mode, len(merged.indices), GL.UNSIGNED_SHORT if small else GL.UNSIGNED_INT, Raw(0)
        )

    def _upload(self, target: int, data: bytes, called: str) -> tuple[int, int]:
        """(name, bytes) of a buffer that gets its contents anew in every frame."""
        buffer, size = self._new.buffer(bytes(len(data)), GL.STREAM_DRAW, shared=False)
        self._words[buffer] = called
        before = self._value("buffer", target)
        self._emit("glBindBuffer", target, buffer)
        self._emit("glBufferSubData", target, 0, len(data), data)
        self._undo.append(lambda: self._emit("glBindBuffer", target, before, quiet=True))
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

    # ---- code -----------------------------------------------------------------------------------------

    def _calls_code(self) -> Code:
        step = self._steps[0]
        first = int(self._frame.steps.call[step - 1]) + 1 if step else 0
        before = len(self._steps) * max(int(self._frame.steps.call[step]) - first + 1, 1)
        head = f"// in place of {len(self._steps)} draws, with about {before:,} calls together\n"
        return Code("Calls", head + "\n".join(self._lines), "c")

    def _code(self, sources: dict[int, Source], changed: dict[int, str], data: DrawData) -> list[Code]:
        found = [self._calls_code()]
        if data.members:
            lines = [f"{m.offset:>6}  {m.glsl}" for m in data.members]
            found.append(
                Code(
                    "Data of each draw",
                    f"{data.draws} structures of {data.stride} bytes each, in a {data.store}, std140\noffset  member\n"
                    + "\n".join(lines),
                )
            )
        for stage, source in sources.items():
            if changed[stage] != source.text:
                found.append(Code(f"{STAGES[stage].capitalize()} shader", changed[stage], "glsl"))
        return found
