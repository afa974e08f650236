"""One frame rebuilt in this process, and everything that can be run on it."""

from __future__ import annotations

import re
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from wendascope.errors import ReplayError
from wendascope.frame.frame import Frame, Picture
from wendascope.frame.packed import Batch, CallStream
from wendascope.frame.passes import Target
from wendascope.registry import GL, tables
from wendascope.replay.context import PbufferContext
from wendascope.replay.deletions import unbinding_calls
from wendascope.replay.dirty import written_objects
from wendascope.replay.edit import Edit, apply_edit
from wendascope.replay.executor import LocalExecutor
from wendascope.replay.rebuild import Rebuilder
from wendascope.replay.translate import Translator, drop_mask

_FRESH = 0xF0000000
"""Captured-side names of objects that edits make begin here."""


@dataclass
class Prepared:
    """An edited frame, translated and ready to run any number of times."""

    stream: CallStream
    origin: npt.NDArray[np.int64]
    out: npt.NDArray[np.uint8]
    out_starts: list[int]

    def output(self, insertion: int, size: int) -> bytes:
        """What the given insertion of the edit wrote in the last run."""
        start = self.out_starts[insertion]
        return self.out[start : start + size].tobytes()


class ReplaySession:
    """Rebuilds a frame in a context of its own kind. Raises MachineError, ReplayError."""

    def __init__(self, frame: Frame, progress: int | None = None) -> None:
        self.frame = frame
        self.watch: npt.NDArray[np.int64] | None = None
        """Memory that outlives this process, to tell which captured call a crash happened in."""
        self.context = PbufferContext(frame.context, frame.default_framebuffer)
        self.executor = LocalExecutor(progress)
        self._setup = LocalExecutor()  # whose calls are not the frame's, and do not move the progress word
        self._rebuilder = Rebuilder(frame, self._setup)
        self._rebuilder.build()
        self._single = not self._is_double()
        self._make_names()
        self.names = self._rebuilder.names
        self.translator = Translator(frame, self.names, self._single)
        self.caveats = list(self._rebuilder.caveats)
        self._dropped = drop_mask(frame.calls)
        self._whole: Prepared | None = None
        self._unbinding = unbinding_calls(frame)
        self._restore = self._restore_batches()

    def _is_double(self) -> bool:
        batch = Batch()
        out = batch.out(4)
        batch.call("glGetIntegerv", GL.DOUBLEBUFFER, out)
        self._setup.run(batch)
        return bool(out.ints()[0])

    def _make_names(self) -> None:
        """Objects that the frame makes while it runs get their names here beforehand."""
        calls, rebuilder = self.frame.calls, self._rebuilder
        for command_id in np.unique(calls.ids).tolist():
            command = tables().commands[command_id]
            if not re.match(r"gl(Gen|Create)[A-Z]", command.name):
                continue
            for call in np.flatnonzero(calls.ids == command_id).tolist():
                arrays = [p for p in command.parameters if p.role == "names"]
                if arrays and arrays[0].object_class:
                    data = calls.argument(call, arrays[0].name)
                    names = np.frombuffer(data or b"", np.uint32).tolist()
                    self._create(command.name, call, arrays[0].object_class, names)
                elif command.return_class in ("program", "shader"):
                    batch = Batch()
                    arguments = [calls.argument(call, p.name) for p in command.parameters]
                    result = batch.call(command.name, *arguments)
                    self._setup.run(batch)
                    rebuilder.names.create(command.return_class, call, calls.result(call), result.value)

    def _create(self, command: str, call: int, class_name: str, names: list[int]) -> None:
        calls = self.frame.calls
        batch = Batch()
        out = batch.out(4 * len(names))
        first = [calls.argument(call, p.name) for p in calls.command(call).parameters if p.kind == "enum"]
        batch.call(command, *first, len(names), out)
        self._setup.run(batch)
        for name, here in zip(names, out.uints(), strict=True):
            self._rebuilder.names.create(class_name, call, name, here)

    # ---- the same start for every run ---------------------------------------------------------------

    def _restore_batches(self) -> list[Batch]:
        """Calls that put back what the frame writes, and then the context state."""
        objects, rebuilder = self.frame.objects, self._rebuilder
        written = written_objects(self.frame)
        batch = rebuilder.upload_batch()
        for buffer in objects.buffers:
            if buffer.name in written.buffers:
                rebuilder.restore_buffer(batch, buffer)
        for texture in objects.textures:
            if texture.name in written.textures:
                rebuilder.restore_texture(batch, texture, texture.name in written.redefined_textures)
        for framebuffer in objects.framebuffers:
            if framebuffer.name in written.framebuffers:
                rebuilder.define_framebuffer(batch, framebuffer)
        for renderbuffer in objects.renderbuffers:
            if renderbuffer.name in written.renderbuffers:
                rebuilder.restore_renderbuffer(batch, renderbuffer)
        rebuilder.restore_window(batch)
        for vertex_array in objects.vertex_arrays:
            if vertex_array.name in written.vertex_arrays:
                rebuilder.define_vertex_array(batch, vertex_array)
        for program in objects.programs:
            if program.name in written.programs:
                rebuilder.define_uniforms(batch, program)
        state = Batch()
        rebuilder.set_state(state)
        return [batch, state]

    def restore(self) -> None:
        """Back to the state before the frame."""
        for batch in self._restore:
            self._setup.run(batch)

    # ---- running ------------------------------------------------------------------------------------

    def prepare(self, edit: Edit | None = None) -> Prepared:
        """Build, translate and hold an edited frame."""
        edit = edit or Edit()
        if not edit.insertions and edit.drop is None:
            return self._beginning(len(self.frame.calls) if edit.keep_until is None else edit.keep_until)
        return self._translated(edit)

    def _beginning(self, calls: int) -> Prepared:
        """The first `calls` calls, cut from the whole frame, which is translated only once."""
        if self._whole is None:
            self._whole = self._translated(Edit())
        whole = self._whole
        # inserted calls belong to the captured call after them: the beginning ends before the first later one
        kept = int(np.argmax(whole.origin >= calls)) if len(whole.origin) and whole.origin.max() >= calls else len(whole.origin)
        stream = whole.stream
        end = len(stream.words) if kept == len(stream) else int(stream.offsets[kept])
        return Prepared(CallStream(stream.words[:end], stream.arena, stream.offsets[:kept]), whole.origin[:kept], whole.out, [])

    def _translated(self, edit: Edit) -> Prepared:
        drop = self._dropped if edit.drop is None else edit.drop | self._dropped
        edit = Edit([*edit.insertions, *self._unbinding], drop, edit.keep_until)
        edited = apply_edit(self.frame.calls, edit)
        stream, readback = self.translator.translate(edited.words, edited.arena, edited.offsets, edited.origin, edited.out_size)
        out = np.zeros(edited.out_size + readback + 64, np.uint8)
        return Prepared(stream, edited.origin, out, edited.out_starts)

    def run(self, prepared: Prepared, restore: bool = True, timed: bool = False) -> None:
        """Run an edited frame from the frame's own start. Raises ReplayError, naming the call."""
        if restore:
            self.restore()
            self.drain()
        if self.watch is not None:
            self.watch[0] = len(prepared.origin)
            self.watch[1:].view(np.int32)[: len(prepared.origin)] = prepared.origin
        self.executor.execute(prepared.stream.words, prepared.stream.arena, prepared.out, timed)

    def fresh_names(self, class_name: str, count: int) -> list[int]:
        """New objects for edits to use, as names that no captured object has."""
        taken = len(self.names.by_class.get(class_name, {}))
        captured = [_FRESH + taken + i for i in range(count)]
        self._rebuilder.generate(class_name, captured)
        return captured

    def drain(self) -> None:
        batch = Batch()
        batch.call("glFinish")
        self._setup.run(batch)

    # ---- pictures --------------------------------------------------------------------------------------

    def read_window(self) -> Picture:
        """The default framebuffer as it is now."""
        default = self.frame.default_framebuffer
        return self.read_framebuffer(0, default.width, default.height, GL.FRONT if self._single else GL.BACK)

    def read_framebuffer(self, here: int, width: int, height: int, buffer: int) -> Picture:
        """Eight-bit colour of one buffer of a framebuffer (a name here)."""
        batch = self._read_batch(here, buffer)
        out = batch.out(width * height * 4)
        batch.call("glReadPixels", 0, 0, width, height, GL.RGBA, GL.UNSIGNED_BYTE, out)
        self._setup.run(batch)
        return Picture.from_bytes(out.data, width, height)

    def read_depth(self, here: int, width: int, height: int) -> npt.NDArray[np.float32]:
        """Depth of a framebuffer, shape (height, width), 0 to 1."""
        batch = self._read_batch(here, GL.NONE)
        out = batch.out(width * height * 4)
        batch.call("glReadPixels", 0, 0, width, height, GL.DEPTH_COMPONENT, GL.FLOAT, out)
        self._setup.run(batch)
        return np.frombuffer(out.data, np.float32, width * height).reshape(height, width)

    def _read_batch(self, here: int, buffer: int) -> Batch:
        batch = Batch()
        batch.call("glBindBuffer", GL.PIXEL_PACK_BUFFER, 0)
        for name in ("PACK_SWAP_BYTES", "PACK_ROW_LENGTH", "PACK_SKIP_ROWS", "PACK_SKIP_PIXELS"):
            batch.call("glPixelStorei", getattr(GL, name), 0)
        batch.call("glPixelStorei", GL.PACK_ALIGNMENT, 1)
        batch.call("glBindFramebuffer", GL.READ_FRAMEBUFFER, here)
        if buffer != GL.NONE:
            batch.call("glReadBuffer", buffer)
        return batch

    def read_target(self, target: Target) -> Picture | npt.NDArray[np.float32]:
        """The colour of a pass target as it is now, or its depth when it has no colour."""
        if target.framebuffer == 0:
            return self.read_window()
        here = self.names.get("framebuffer", target.framebuffer)
        points = [a.point for a in target.attachments]
        colors = [p for p in points if p not in (GL.DEPTH_ATTACHMENT, GL.STENCIL_ATTACHMENT)]
        if not colors:
            return self.read_depth(here, target.width, target.height)
        return self.read_framebuffer(here, target.width, target.height, min(colors))

    def read_target_depth(self, target: Target) -> npt.NDArray[np.float32]:
        """Depth of a pass target as it is now. Raises ReplayError when it has none."""
        points = {a.point for a in target.attachments}
        if (target.framebuffer and GL.DEPTH_ATTACHMENT not in points) or (not target.framebuffer and not self.frame.default_framebuffer.depth):
            raise ReplayError(f"{target.name} has no depth; choose the colour lens")
        return self.read_depth(self.names.get("framebuffer", target.framebuffer), target.width, target.height)

    def final_picture(self) -> Picture:
        """What the reference picture shows, after a run of the whole frame."""
        framebuffer = self.frame.reference_framebuffer
        if framebuffer == 0:
            return self.read_window()
        target = next((t for t in reversed(self.frame.passes.targets) if t.framebuffer == framebuffer), None)
        reference = self.frame.reference
        assert reference is not None
        if target is None:
            target = Target(framebuffer, (), reference.width, reference.height)
            return self.read_framebuffer(self.names.get("framebuffer", framebuffer), reference.width, reference.height, GL.COLOR_ATTACHMENT0)
        picture = self.read_target(target)
        assert isinstance(picture, Picture)
        return picture

    def close(self) -> None:
        self.context.close()
