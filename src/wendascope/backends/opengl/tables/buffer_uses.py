"""Which steps read and write which buffers, and as what."""

from __future__ import annotations

import re
from collections.abc import Iterable
from typing import TYPE_CHECKING

import numpy as np

from wendascope.backends.opengl.tables.written import buffer_writes, element_buffers
from wendascope.frame.numbers import Ints
from wendascope.frame.steps import KINDS
from wendascope.registry import GL, Role, tables

if TYPE_CHECKING:
    from wendascope.backends.opengl.frame import OpenGLFrame

_UNFOLLOWED = re.compile(
    r"gl(VertexArray\w+EXT$|(Vertex|Normal|Color|SecondaryColor|TexCoord|MultiTexCoord|FogCoord|Index|EdgeFlag)Pointer|InterleavedArrays"
    r"|\w*Address|MakeNamedBufferResident|TexBuffer|TextureBuffer|CallList)"
)
"""Commands that bind buffers in ways that nobody follows here."""
_POINTERS = re.compile(r"gl\w+Pointer$")
_WRITTEN_BY_SHADERS = {
    GL.SHADER_STORAGE_BUFFER: "storage block",
    GL.ATOMIC_COUNTER_BUFFER: "atomic counters",
    GL.TRANSFORM_FEEDBACK_BUFFER: "transform feedback",
}
_AT_CALLS = {
    GL.PIXEL_UNPACK_BUFFER: (Role.WRITES_TEXTURE, "source of uploads"),
    GL.PIXEL_PACK_BUFFER: (Role.READS_PIXELS | Role.READS_BACK, "readbacks"),
}
"""Target -> what calls with it do while a buffer is bound there."""


class BufferUses:
    """Gathered once for a frame."""

    def __init__(self, frame: OpenGLFrame) -> None:
        self._frame = frame
        self._at = np.asarray(frame.steps.call, np.int64)
        self._draws = np.flatnonzero(np.asarray(frame.steps.kind) == KINDS.index("draw"))
        dispatches = np.flatnonzero(np.asarray(frame.steps.kind) == KINDS.index("dispatch"))
        self._works = np.union1d(self._draws, dispatches)
        self.reads: dict[int, dict[str, list[Ints]]] = {}
        """Buffer -> what it is read as -> steps."""
        self.writes: dict[int, list[Ints]] = {}
        """Buffer -> steps that may write it."""
        self.calls: dict[int, list[Ints]] = {}
        """Buffer -> calls that are no steps and read or write it."""
        self.followed = self._all_followed()
        self._attributes()
        self._indices()
        self._blocks()
        self._shader_writes()
        self._arguments()
        self._textures()
        self._transfers()

    def _all_followed(self) -> bool:
        frame = self._frame
        names = {tables().commands[i].name for i in np.unique(frame.calls.ids).tolist()}
        before = {tables().commands[i].name for i in np.unique(frame.setup.ids).tolist()}
        known = {program.name for program in frame.objects.programs}
        used = set(np.asarray(frame.steps.program)[self._works].tolist())
        hidden = 0 in used and frame.context.profile == "core"  # pipelines: which programs they hold is not followed
        return not (
            any(_UNFOLLOWED.match(name) for name in names)
            or any(_POINTERS.match(name) for name in before)
            or hidden
            or used - known - {0}
        )

    def _add(self, kind: str, buffers: Ints, steps: Ints) -> None:
        for name in np.unique(buffers).tolist():
            if name > 0:
                self.reads.setdefault(name, {}).setdefault(kind, []).append(steps[buffers == name])

    def _attributes(self) -> None:
        which, inputs = self._frame.uses.inputs
        for index, attributes in enumerate(inputs):
            steps = self._draws[which[self._draws] == index]
            for buffer in {attribute.buffer for attribute in attributes if attribute.buffer}:
                self._add("vertices", np.full(len(steps), buffer), steps)

    def _indices(self) -> None:
        steps = self._draws[self._named("Elements")[self._draws]]
        self._add("indices", element_buffers(self._frame, self._at[steps]), steps)

    def _named(self, part: str) -> np.ndarray:
        """Whether the name of each step's command holds a word."""
        ids, of = np.unique(self._frame.calls.ids[self._at], return_inverse=True)
        return np.array([part in tables().commands[i].name for i in ids.tolist()], bool)[of]

    def _blocks(self) -> None:
        history = self._frame.history
        for program in self._frame.objects.programs:
            steps = self._works[np.asarray(self._frame.steps.program)[self._works] == program.name]
            if len(steps) == 0:
                continue
            for index, binding in program.blocks.values():
                points = history.column("block_binding", self._at[steps], program.name, index, missing=binding)
                for point in np.unique(points).tolist():
                    mine = steps[points == point]
                    bound = history.column("indexed_buffer", self._at[mine], GL.UNIFORM_BUFFER, int(point))
                    self._add("uniform block", bound, mine)

    def _shader_writes(self) -> None:
        """Whatever is bound where shaders may write may be read and written by every step."""
        history = self._frame.history
        for target, index in history.keys("indexed_buffer"):
            if target not in _WRITTEN_BY_SHADERS:
                continue
            bound = history.column("indexed_buffer", self._at[self._works], target, index)
            self._may_write(_WRITTEN_BY_SHADERS[target], bound)
        for feedback in self._frame.objects.feedbacks:
            for buffer, _, _ in feedback.buffers:
                if len(self._frame.calls.calls_of("glBeginTransformFeedback")):
                    self._may_write("transform feedback", np.full(len(self._works), buffer))

    def _may_write(self, kind: str, bound: Ints) -> None:
        self._add(kind, bound, self._works)
        for name in np.unique(bound[bound > 0]).tolist():
            self.writes.setdefault(name, []).append(self._works[bound == name])

    def _arguments(self) -> None:
        """Buffers that draws and dispatches take their counts from."""
        history, indirect = self._frame.history, self._named("Indirect")
        for target in (GL.DRAW_INDIRECT_BUFFER, GL.DISPATCH_INDIRECT_BUFFER, GL.PARAMETER_BUFFER):
            steps = self._works[indirect[self._works]]
            self._add("arguments of draws", history.column("buffer", self._at[steps], target), steps)

    def _textures(self) -> None:
        """Buffers that textures show."""
        shown = {t.name: t.buffer for t in self._frame.objects.textures if t.buffer}
        for use in self._frame.uses.textures if shown else ():
            for texture in np.unique(use.textures).tolist():
                if texture in shown:
                    steps = use.steps[use.textures == texture]
                    self._add("texels", np.full(len(steps), shown[texture]), steps)

    def _transfers(self) -> None:
        calls, history = self._frame.calls, self._frame.history
        for name, rows in buffer_writes(self._frame).items():
            self.calls.setdefault(name, []).append(rows)
        for target, (role, kind) in _AT_CALLS.items():
            rows = np.flatnonzero(calls.having(role))
            self._at_calls(kind, history.column("buffer", rows, target), rows)
        copies = np.flatnonzero(calls.having(Role.COPIES_TO_BUFFER))
        for call in copies.tolist():
            parameters = {p.name for p in calls.command(call).parameters}
            if "readBuffer" in parameters:
                name = int(calls.argument(call, "readBuffer"))
            else:
                name = history.number("buffer", call, int(calls.argument(call, "readTarget")))
            self._at_calls("source of copies", np.array([name]), np.array([call]))

    def _at_calls(self, kind: str, buffers: Ints, calls: Ints) -> None:
        for name in np.unique(buffers[buffers > 0]).tolist():
            self.calls.setdefault(name, []).append(calls[buffers == name])
            self.reads.setdefault(name, {}).setdefault(kind, [])


def joined(parts: Iterable[Ints]) -> Ints:
    """Several lists of steps or calls as one, in order, each once."""
    found = [np.asarray(part, np.int64) for part in parts if len(part)]  # of most objects there is none
    if not found:
        return np.zeros(0, np.int64)
    together = np.concatenate(found)
    return together if (np.diff(together) > 0).all() else np.unique(together)
