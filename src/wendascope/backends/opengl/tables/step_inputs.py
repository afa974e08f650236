"""Everything that a step depends on, as one number that is the same in other frames of the program.

Where two steps of two frames have one number, the same program draws the same data with the same state and values, and
reads textures with the same contents: identical by construction, whatever the target holds. What is not followed makes
a step unknown, never equal: the fixed-function pipeline, client memory, images and buffers that shaders write.
"""

from __future__ import annotations

import hashlib
import re
from typing import TYPE_CHECKING

import numpy as np

from wendascope.backends.opengl.objects.records import ProgramRecord, sampler_targets
from wendascope.backends.opengl.objects.subroutines import subroutine_numbers
from wendascope.backends.opengl.objects.uniform_values import uniform_value
from wendascope.backends.opengl.state.draw_buffers import draw_buffers
from wendascope.backends.opengl.state.setting_values import blob_numbers
from wendascope.backends.opengl.state.texture_parameters import parameter_calls
from wendascope.backends.opengl.state.tracker import UNKNOWN
from wendascope.backends.opengl.tables.inputs import sampler_uses
from wendascope.backends.opengl.tables.step_uses import STATE_OF_DRAWS
from wendascope.backends.opengl.tables.written import (
    NAMED_BY_TARGET,
    buffer_writes,
    element_buffers,
    texture_writes,
    written_by_shaders,
)
from wendascope.frame.numbers import Ints, Mask, Numbers, combined
from wendascope.frame.steps import KINDS
from wendascope.frame.uses import UnknownContentsError
from wendascope.registry import GL, Role

if TYPE_CHECKING:
    from wendascope.backends.opengl.frame import OpenGLFrame

_FOLLOWED = re.compile(r"gl(?:DrawArrays|DrawElements|DrawRangeElements|Clear)(?!.*Indirect)")
"""Commands whose arguments tell all that they do."""
_CLEARED_BY = ("clear_color", "clear_depth", "clear_stencil")
_FIXED = re.compile(
    r"\b(?:ftransform|gl_\w*(?:Matrix|Light|Material|Fog|Plane|TextureEnv)\w*|gl_(?:DepthRange|Point)\b)"
)
"""What shaders read that no uniform of their own holds."""
_FIXED_ARRAYS = re.compile(r"\bgl_(?:Vertex|Normal|Color|SecondaryColor|MultiTexCoord\d|FogCoord|ClipVertex)\b")
"""What vertex shaders read of the fixed arrays and planes."""
_IMAGES = range(0x904C, 0x906D)
"""Types of uniforms that are images, in the registry."""
_CONDITIONS = ("glBeginConditionalRender", "glBeginConditionalRenderNV")


def step_inputs(frame: OpenGLFrame) -> tuple[Numbers, Mask]:
    """(a number for each step, whether it is known), shape (steps,)."""
    return _Inputs(frame).find()


def _number(data: bytes) -> int:
    return int.from_bytes(hashlib.blake2b(data, digest_size=8).digest(), "little")


class _Inputs:
    def __init__(self, frame: OpenGLFrame) -> None:
        self._frame = frame
        self._calls = np.asarray(frame.steps.call, np.int64)
        self._programs = {p.name: p for p in frame.objects.programs}
        self._writes = buffer_writes(frame)
        self._contents = frame.buffer_contents
        self._unfollowed = written_by_shaders(frame).buffers
        """Buffers that shaders write."""
        self._parts: dict[tuple[int, int, int, int], int] = {}
        """(buffer, how often it was written, start, size) -> a number for what is there; -1 where that is not known."""
        commands = [frame.calls.command(call).name for call in self._calls.tolist()]
        self._known = np.array([bool(_FOLLOWED.match(name)) for name in commands], bool)
        self._draws = np.asarray(frame.steps.kind) == KINDS.index("draw")

    def find(self) -> tuple[Numbers, Mask]:
        frame = self._frame
        if len(self._calls) == 0 or len(frame.calls.calls_of(*_CONDITIONS)):
            return np.zeros(len(self._calls), np.uint64), np.zeros(len(self._calls), bool)
        self._known &= subroutine_numbers(frame)[1] & ~self._stippled() & ~self._after_lists()
        numbers = combined(self._geometry(), self._state(), self._targets(), self._values())
        return self._with_textures(numbers), self._known

    def _stippled(self) -> Mask:
        """Steps with a pattern that is not kept as state."""
        return np.asarray(self._frame.history.column("capability", self._calls, GL.POLYGON_STIPPLE) == 1)

    def _after_lists(self) -> Mask:
        """Steps after a display list, which may have set anything."""
        lists = self._frame.calls.calls_of("glCallList", "glCallLists")
        return np.asarray(np.searchsorted(lists, self._calls, side="right") > 0)

    # ---- the step's own ---------------------------------------------------------------------------------

    def _geometry(self) -> Numbers:
        """The call with its arguments, and the vertex data that it may read."""
        uses = self._frame.uses
        numbers = combined(uses.geometry, uses.constant_inputs)
        which, inputs = uses.inputs
        for index, attributes in enumerate(inputs):
            mine = np.flatnonzero((which == index) & self._draws)
            if any(not attribute.buffer for attribute in attributes):
                self._known[mine] = False  # client memory
            for buffer in {a.buffer for a in attributes} & set(self._writes):
                numbers[mine] = combined(numbers[mine], self._buffer_numbers(np.full(len(mine), buffer), mine))
            self._known[mine] &= not {a.buffer for a in attributes} & self._unfollowed
        elements = element_buffers(self._frame, self._calls)
        written = np.flatnonzero(np.isin(elements, list(self._writes)) & self._draws)
        numbers[written] = combined(numbers[written], self._buffer_numbers(elements[written], written))
        return numbers

    def _buffer_numbers(self, buffers: Ints, steps: Ints) -> Numbers:
        """What each buffer holds when its step comes."""
        pairs = zip(buffers.tolist(), steps.tolist(), strict=True)
        return np.array([self._held(buffer, step) for buffer, step in pairs], np.uint64)

    def _held(self, buffer: int, step: int, start: int = 0, size: int = 0) -> int:
        """A number for what a step finds in a part of a buffer, or from a byte on. Where that is not known, the step is
        not known either.
        """
        call = int(self._calls[step])
        version = int(np.searchsorted(self._writes.get(buffer, np.zeros(0, np.int64)), call))
        key = (buffer, version, start, size)
        if key not in self._parts:
            try:
                data = self._contents.at(buffer, call)
                self._parts[key] = _number(data[start : start + size if size else len(data)])
            except (UnknownContentsError, KeyError):
                self._parts[key] = -1
        if self._parts[key] < 0:
            self._known[step] = False
            return 0
        return self._parts[key]

    def _state(self) -> Numbers:
        """Every value that draws depend on."""
        values, history = self._frame.setting_values, self._frame.history
        numbers = np.zeros(len(self._calls), np.uint64)
        for name in (*STATE_OF_DRAWS, *_CLEARED_BY):
            key = _number(name.encode())
            for i, j in history.keys(name):
                known = history.setters(name, self._calls, i, j) != UNKNOWN
                if name in _CLEARED_BY:
                    known &= ~self._draws
                value = combined(key, i & 0xFFFFFFFF, j & 0xFFFFFFFF, values.column(name, self._calls, i, j))
                # a sum, so that a key which only another frame has takes no part in this one
                numbers += np.where(known, value, np.uint64(0))
        return numbers

    def _targets(self) -> Numbers:
        """What each step draws into, and which of it."""
        of_pass = []
        for target in self._frame.passes.targets:
            images = [(a.point, a.kind, a.name, a.level, a.face, a.layer, a.layered) for a in target.attachments]
            of_pass.append(_number(repr((target.framebuffer, images, target.width, target.height)).encode()))
        chosen = np.zeros(len(self._calls), np.uint64)
        framebuffers = self._frame.history.column("framebuffer", self._calls, GL.DRAW_FRAMEBUFFER)
        for framebuffer in np.unique(framebuffers).tolist():
            mine = np.flatnonzero(framebuffers == framebuffer)
            events = self._frame.history.setters("draw_buffers", self._calls[mine], framebuffer)
            _, first, which = np.unique(events, return_index=True, return_inverse=True)
            found = [draw_buffers(self._frame, framebuffer, int(self._calls[mine[at]])) for at in first.tolist()]
            chosen[mine] = np.array([_number(repr(buffers).encode()) for buffers in found], np.uint64)[which]
        return combined(np.array(of_pass, np.uint64)[self._frame.passes.of_step], chosen)

    # ---- programs and their values ------------------------------------------------------------------------

    def _values(self) -> Numbers:
        frame = self._frame
        numbers = np.asarray(frame.uses.pipeline, np.uint64).copy()
        for name in np.unique(frame.steps.program).tolist():
            rows = np.flatnonzero((frame.steps.program == name) & self._draws)
            program = self._programs.get(name)
            if len(rows) == 0:
                continue
            if program is None or not self._followed(program):
                self._known[rows] = False
                continue
            sources = _number("\0".join(shader.source for shader in program.shaders).encode())
            numbers[rows] = combined(numbers[rows], sources, self._uniforms(program, rows), self._blocks(program, rows))
        return numbers

    def _followed(self, program: ProgramRecord) -> bool:
        """Whether all that the program reads is known."""
        if program.binary or not all(shader.source for shader in program.shaders) or program.storage_blocks:
            return False
        if any(uniform.type in _IMAGES for uniform in program.uniforms):
            return False
        if self._frame.context.profile == "core" or self._frame.context.es:
            return True
        first = [shader.source for shader in program.shaders if shader.type == GL.VERTEX_SHADER]
        fixed = any(_FIXED.search(shader.source) for shader in program.shaders)
        return bool(first) and not fixed and not any(_FIXED_ARRAYS.search(source) for source in first)

    def _uniforms(self, program: ProgramRecord, rows: Ints) -> Numbers:
        """All values that its steps find."""
        history, calls = self._frame.history, self._calls[rows]
        numbers = np.zeros(len(rows), np.uint64)
        set_here = history.keys_set("uniform", program.name)
        for uniform in sorted(program.uniforms, key=lambda u: u.name):
            if uniform.type in sampler_targets():
                continue  # which unit it looks at says nothing
            places = [place for place in uniform.locations if place & 0xFFFFFFFF in set_here]
            if not places:
                numbers = combined(numbers, _number(uniform.name.encode() + uniform.values))
                continue
            setters = np.stack([history.setters("uniform", calls, program.name, place) for place in places])
            _, first, which = np.unique(setters, axis=1, return_index=True, return_inverse=True)
            values = [
                _number(uniform.name.encode() + uniform_value(self._frame, program, uniform, int(calls[at])))
                for at in first.tolist()
            ]
            numbers = combined(numbers, np.array(values, np.uint64)[which.ravel()])
        return numbers

    def _blocks(self, program: ProgramRecord, rows: Ints) -> Numbers:
        """What the part of a buffer holds that is bound for each of its uniform blocks."""
        history, calls = self._frame.history, self._calls[rows]
        numbers = np.zeros(len(rows), np.uint64)
        for name, (index, binding) in sorted(program.blocks.items()):
            points = history.column("block_binding", calls, program.name, index, missing=binding)
            found = np.zeros(len(rows), np.uint64)
            for point in np.unique(points).tolist():
                mine = np.flatnonzero(points == point)
                found[mine] = [self._range_number(int(point), int(rows[at])) for at in mine.tolist()]
            numbers = combined(numbers, _number(name.encode()), found)
        return numbers

    def _range_number(self, point: int, step: int) -> int:
        call = int(self._calls[step])
        bound = self._frame.history.value("indexed_buffer", call, GL.UNIFORM_BUFFER, point)
        if not bound or not bound[0]:
            return 0  # nothing is bound: whatever the driver gives then, the frame does not say
        if bound[0] in self._unfollowed:
            self._known[step] = False
            return 0
        start, size = (*bound[1:], 0, 0)[:2]
        return self._held(bound[0], step, int(start), int(size))

    # ---- textures -----------------------------------------------------------------------------------------

    def _with_textures(self, numbers: Numbers) -> Numbers:
        """The same with what each step's textures hold: step by step, since steps make textures for later ones."""
        frame = self._frame
        origin = {t.name: t.view_of or t.name for t in frame.objects.textures}
        holds = {t.name: self._before(t.name) for t in frame.objects.textures}
        read: dict[int, list[tuple[str, int, int]]] = {}
        for use, row in zip(sampler_uses(frame), frame.uses.textures, strict=True):
            found_there = combined(row.numbers, self._samplers(use.units, self._calls[use.steps]))
            for step, texture, how in zip(use.steps.tolist(), use.textures.tolist(), found_there.tolist(), strict=True):
                read.setdefault(step, []).append((use.sampler, texture, how))
        changed = parameter_calls(frame)[1]
        uploads = [(call, name) for name, calls in texture_writes(frame).items() for call in calls.tolist()]
        for command, rows in frame.calls.by_command():
            if command.canonical in NAMED_BY_TARGET:
                drain = command.parameter(NAMED_BY_TARGET[command.canonical][-1][0]).slot
                uploads += zip(rows.tolist(), frame.calls.column(rows, drain).astype(np.int64).tolist(), strict=True)
        uploads.sort(reverse=True)
        found, known = numbers.copy(), self._known
        mipmaps = frame.calls.having(Role.MIPMAPS)
        for step in range(len(numbers)):
            while uploads and uploads[-1][0] < self._calls[step]:
                call, name = uploads.pop()
                self._upload(holds, origin.get(name, name), call, bool(mipmaps[call]))
            parts = [int(numbers[step])]
            for sampler, texture, how in sorted(read.get(step, ())):
                held = holds.get(origin.get(texture, texture))
                if texture and held is None:
                    known[step] = False
                parts += [_number(sampler.encode()), held or 0, how]
            if changed.any() and read.get(step) and changed[: int(self._calls[step])].any():
                known[step] = False  # which texture it was is not followed
            found[step] = _number(np.array(parts, np.uint64).tobytes())
            self._drawn(holds, origin, step, int(found[step]))
        return found

    def _samplers(self, units: Ints, calls: Ints) -> Numbers:
        """A number for the parameters of the sampler that each unit has at each call."""
        records = {s.name: _number(repr(sorted(s.parameters.items())).encode()) for s in self._frame.objects.samplers}
        bound = np.zeros(len(calls), np.int64)
        for unit in np.unique(units).tolist():
            bound[units == unit] = self._frame.history.column("sampler", calls[units == unit], unit)
        return np.array([records.get(name, name) for name in bound.tolist()], np.uint64)

    def _before(self, name: int) -> int | None:
        """A number for what a texture holds before the frame; None where that is not known."""
        record = self._frame.objects.texture(name)
        if record is None:
            return None
        drawn = any((a.kind, a.name) == ("texture", name) for t in self._frame.passes.targets for a in t.attachments)
        if not drawn and not all(image.contents for image in record.images):
            return None
        images = [(i.target, i.level, i.contents.hash if i.contents else "") for i in record.images]
        return _number(repr((images, sorted(record.parameters.items()))).encode())

    def _upload(self, holds: dict[int, int | None], name: int, call: int, mipmaps: bool) -> None:
        """Follow one call that writes a texture from memory; of others nobody knows what they leave."""
        calls, held = self._frame.calls, holds.get(name)
        command = calls.command(call)
        if held is None or command.canonical in NAMED_BY_TARGET or (command.has(Role.COPY) and not mipmaps):
            holds[name] = None
            return
        columns: list[Numbers | int] = [held, command.id]
        where = np.array([call])
        for parameter in command.parameters:
            column = calls.column(where, parameter.slot)
            if parameter.kind == "pointer":
                column = blob_numbers(calls, column, calls.column(where, parameter.slot + 1))
            columns.append(column)
        history = self._frame.history
        for key in sorted(history.keys("pixel_store")):
            columns.append(history.column("pixel_store", where, *key).astype(np.uint64))
        packing = history.value("buffer", call, GL.PIXEL_UNPACK_BUFFER)
        holds[name] = None if packing and packing[0] else int(combined(*columns)[0])

    def _drawn(self, holds: dict[int, int | None], origin: dict[int, int], step: int, number: int) -> None:
        """What a step's target holds afterwards: that depends on all that was there, since a clear may leave a part."""
        target = self._frame.passes.targets[int(self._frame.passes.of_step[step])]
        for attachment in target.attachments:
            if attachment.kind != "texture":
                continue
            name = origin.get(attachment.name, attachment.name)
            held = holds.get(name)
            known = bool(self._known[step]) and held is not None
            holds[name] = _number(np.array([held, number], np.uint64).tobytes()) if known else None
