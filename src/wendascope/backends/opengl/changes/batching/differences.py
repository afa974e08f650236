"""What differs between steps of one program: uniforms, members of blocks and textures, with their values at each step.

Whatever cannot become data of each draw is refused here, saying why.
"""

from __future__ import annotations

import contextlib
import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

from wendascope.backends.opengl.changes.batching.rewrite import STAGES, Source
from wendascope.backends.opengl.changes.batching.texture_units import Bound, bound_at
from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.backends.opengl.objects.buffer_contents import BufferContents
from wendascope.backends.opengl.objects.records import ProgramRecord, UniformRecord, sampler_targets
from wendascope.backends.opengl.objects.subroutines import chooses_subroutines
from wendascope.backends.opengl.objects.uniform_blocks import block_layout
from wendascope.backends.opengl.objects.uniform_values import uniform_setters, uniform_value, variable_of
from wendascope.backends.opengl.tables.inputs import TextureInput, texture_inputs
from wendascope.errors import MachineError, TrialError
from wendascope.frame.uses import UnknownContentsError
from wendascope.glsl.compiler import CompileError, compile_glsl
from wendascope.glsl.globals import UnclearSourceError
from wendascope.glsl.preprocessor import compiled_text
from wendascope.glsl.spirv import BadModuleError, read_module
from wendascope.glsl.std140 import fits, unpack
from wendascope.registry import GL


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


def plain_name(uniform: str) -> str:
    """The name of a uniform as that of a member: parts of structures run together."""
    return re.sub(r"\W+", "_", uniform.removesuffix("[0]"))


class Differences:
    """What differs between some steps that one program draws. `contents` is asked for buffers where blocks differ."""

    def __init__(self, frame: OpenGLFrame, steps: Sequence[int], contents: Callable[[], BufferContents]) -> None:
        self._frame, self._steps, self._contents = frame, steps, contents

    def sources(self, record: ProgramRecord) -> dict[int, Source]:
        """Stage -> source that can be rewritten. Raises TrialError."""
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

    def check_counting(self, sources: Mapping[int, Source], instanced: bool) -> None:
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

    def varying(self, record: ProgramRecord) -> tuple[list[UniformRecord], dict[str, list[bytes]]]:
        """(uniforms that differ between the steps, their value at each step by name). Raises TrialError."""
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
        if len({plain_name(u.name) for u in found}) != len(found):
            raise TrialError("the names of parts of structures cannot be told apart")
        return found, values

    def changing_blocks(self, record: ProgramRecord) -> list[ChangingBlock]:
        """Uniform blocks whose contents differ between the steps, taken apart into their members. Raises TrialError."""
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
            data = self._contents().at(buffer, call)
        except UnknownContentsError as error:
            raise TrialError(f"{error} writes a uniform block: what is in it only the GPU knows") from error
        return data[offset : offset + size] if size else data[offset:]

    def differing_textures(self, units: bool) -> tuple[dict[str, list[Bound]], list[TextureInput]]:
        """(sampler -> what it reads at each step, for samplers whose textures differ; all that the last step reads).
        With `units`, each may be on a unit of its own. Raises TrialError.
        """
        rows = [texture_inputs(self._frame, s) for s in self._steps]
        found = {}
        for at, last in enumerate(rows[-1]):
            bound = [bound_at(self._frame, step, row[at]) for step, row in zip(self._steps, rows, strict=True)]
            if len(set(bound)) == 1:
                continue
            if last.target != GL.TEXTURE_2D or "[" in last.uniform or "." in last.uniform:
                raise TrialError(f"the textures of {last.uniform} differ and are not plain two-dimensional ones")
            if len({row[at].unit for row in rows}) > 1 and not units:
                raise TrialError(f"{last.uniform} reads from different units")
            found[last.uniform] = bound
        return found, rows[-1]
