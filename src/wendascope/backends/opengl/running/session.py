"""One frame rebuilt in this process, and everything that can be run on it."""

from __future__ import annotations

import contextlib
import dataclasses
import functools
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Self

import numpy as np
import numpy.typing as npt

from wendascope.backends.busy import BusyLoops
from wendascope.backends.doors import Floats, Prepared
from wendascope.backends.edit import Calls, Edit
from wendascope.backends.opengl.calls.gl_helpers import pack_tightly
from wendascope.backends.opengl.calls.packed import CallBatch, CallStream
from wendascope.backends.opengl.context import PbufferContext
from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.backends.opengl.instruments.clocks import READING_BYTES, readings
from wendascope.backends.opengl.objects.records import Objects, RenderbufferRecord, TextureRecord
from wendascope.backends.opengl.rebuild import Rebuilder
from wendascope.backends.opengl.rebuild.deletions import unbinding_calls
from wendascope.backends.opengl.rebuild.executor import LocalExecutor, PackedBatch, set_surface
from wendascope.backends.opengl.rebuild.translate import Translator, drop_mask, list_drop_mask, setup_drop_mask
from wendascope.backends.opengl.running.edit import apply_edit, own_calls
from wendascope.backends.opengl.snapshot import read_strings
from wendascope.backends.opengl.state.offers import Offers
from wendascope.backends.opengl.tables.written import written_objects
from wendascope.backends.slots import Slots
from wendascope.errors import ReplayError
from wendascope.frame.frame import Picture
from wendascope.frame.passes import Target
from wendascope.registry import GL, Role, tables

_MOST_WINDOWS, _MOST_WINDOW_PIXELS = 60, 1 << 26
_BINDS = (
    ("glBindTexture", "texture", "texture"),
    ("glBindBuffer", "buffer", "buffer"),
    ("glBindFramebuffer", "framebuffer", "framebuffer"),
    ("glBindRenderbuffer", "renderbuffer", "renderbuffer"),
    ("glBeginQuery", "id", "query"),
    ("glBindVertexArray", "array", "vertex array"),
)
_FRESH = 0xF0000000
"""Captured-side names of objects that edits make begin here."""


@functools.cache
def _clock_ids() -> npt.NDArray[np.int64]:
    return np.array([c.id for c in tables().commands if c.name in ("wendaClock", "wendaDrainedClock")])


@dataclass
class PreparedCalls(Prepared):
    """An edited frame, translated and ready to run any number of times."""

    stream: CallStream
    origin: npt.NDArray[np.int64]
    owner: npt.NDArray[np.int64]
    """The captured call that each call belongs to."""
    out: npt.NDArray[np.uint8]
    out_starts: list[int]
    readbacks: dict[int, tuple[int, int]]
    """Captured call that reads into the program's memory -> (offset, bytes) of what it read in the last run."""

    def output(self, insertion: int, size: int) -> bytes:
        """What the given insertion of the edit wrote in the last run."""
        start = self.out_starts[insertion]
        return self.out[start : start + size].tobytes()

    def readings(self, insertion: int, count: int = 1) -> Floats:
        return readings(self.output(insertion, count * READING_BYTES))

    def place(self, call: int) -> int:
        return int(np.searchsorted(self.owner, call))

    def clocks(self) -> tuple[int, int]:
        places = np.flatnonzero(np.isin(self.stream.ids, _clock_ids()))
        return int(places[0]), int(places[-1]) + 1

    def __len__(self) -> int:
        return len(self.stream)

    def first_readings(self, insertions: int, clock: int) -> Floats:
        words = self.out[: len(self.out) // 8 * 8].view(np.uint64)
        return np.asarray(words[np.array(self.out_starts[:insertions]) // 8 + clock] / 1e6)


class ReplaySession:
    """Rebuilds a frame in a context of its own kind. Raises MachineError, ReplayError."""

    def __init__(self, frame: OpenGLFrame, progress: int | None = None) -> None:
        self.frame = frame
        self._progress = progress
        self._variants: dict[str, Self] = {}
        self._surfaces: dict[int, tuple[int, int]] = {}
        self.other_windows: dict[int, tuple[int, int]] = {}
        """Size of each window that the frame goes to besides its own, by numbers of ours."""
        self.busy: BusyLoops | None = None
        """Load for calibrating clocks; None where nobody made any."""
        self.watch: npt.NDArray[np.int64] | None = None
        """Memory that outlives this process, to tell which captured call a crash happened in."""
        self.context = PbufferContext(frame.context, frame.default_framebuffer)
        self.executor = LocalExecutor(progress)
        self._setup = LocalExecutor()  # whose calls are not the frame's, and do not move the progress word
        self._rebuilder = Rebuilder(frame, self._setup)
        self._rebuilder.build()
        self.single = not self._is_double()
        self.names = self._rebuilder.site.names
        self._make_names()
        self._make_windows()
        self.translator = Translator(frame, self.names, self.single)
        self.caveats = [*self.context.caveats, *self._rebuilder.site.caveats]
        self._dropped = drop_mask(frame)
        self.slots = Slots()
        """What measuring found and later jobs ask about."""
        self._whole: PreparedCalls | None = None
        self._unbinding = unbinding_calls(frame)
        self.written = written = written_objects(frame)
        self._restore = self._rebuilder.restore_batches(written)
        self._restore_without_images: list[CallBatch] | None = None
        self._setup_calls = self._own_stream(frame.setup, setup_drop_mask(frame.setup))
        self._list_calls = self._own_stream(frame.lists, list_drop_mask(frame.lists))
        self._lists_change = written.lists
        self._run_stream(self._list_calls)

    @functools.cached_property
    def renderer(self) -> str:
        """What the driver here calls itself: numbers belong to it."""
        return read_strings(self._setup)["RENDERER"]

    @property
    def elsewhere_captured(self) -> bool:
        """Whether the frame was captured with another driver than that of this machine."""
        return bool(self.frame.context.renderer) and self.frame.context.renderer != self.renderer

    @property
    def offers(self) -> Offers:
        """What the captured context offered."""
        return self._rebuilder.site.offers

    def _is_double(self) -> bool:
        if self.frame.context.es:
            return True  # the back buffer has that name there whatever the surface is
        batch = CallBatch()
        out = batch.out(4)
        batch.call("glGetIntegerv", GL.DOUBLEBUFFER, out)
        self._setup.run(batch)
        return bool(out.ints()[0])

    def _make_windows(self) -> None:
        """The windows that the frame goes to besides its own, by numbers of ours."""
        self._surfaces[0] = self.context.main_surface
        calls = self.frame.calls
        for call in calls.calls_of("wendaDrawable").tolist():
            drawable, width, height = (int(calls.argument(call, name)) for name in ("drawable", "width", "height"))
            known = self.names.by_class.setdefault("drawable", {})
            size = min(width, 16384), min(height, 16384)
            pixels = sum(w * h for w, h in self.other_windows.values()) + size[0] * size[1]
            if drawable and drawable not in known and len(known) < _MOST_WINDOWS and pixels <= _MOST_WINDOW_PIXELS:
                known[drawable] = len(known) + 1
                self._surfaces[known[drawable]], self.other_windows[known[drawable]] = self.context.surface(*size), size
        self._register_surfaces()

    def _register_surfaces(self) -> None:
        for number, surface in self._surfaces.items():
            set_surface(number, *surface)

    @contextlib.contextmanager
    def variant(self, name: str, change: Callable[[OpenGLFrame], OpenGLFrame]) -> Iterator[Self]:
        """Another session of the same frame, changed, with a context of its own that is current meanwhile.

        It is built when first asked for and kept by its name.
        """
        try:
            if name not in self._variants:
                self._variants[name] = type(self)(change(self.frame), self._progress)
            other = self._variants[name]
            other.watch = self.watch
            other._enter()
            yield other
        finally:
            self._enter()

    @contextlib.contextmanager
    def elsewhere(self, context: PbufferContext) -> Iterator[None]:
        """Another context of ours is current meanwhile."""
        try:
            context.make_current()
            yield
        finally:
            self._enter()

    def _enter(self) -> None:
        self.context.make_current()
        self._register_surfaces()

    def _own_stream(self, calls: CallStream, drop: npt.NDArray[np.bool_]) -> PreparedCalls:
        """Calls from before the frame, translated."""
        edited = apply_edit(calls, Edit(drop=drop))
        before = np.full(len(edited.offsets), -1, np.int64)
        stream, readbacks = self.translator.translate(edited.words, edited.arena, edited.offsets, before, 0)
        return PreparedCalls(stream, before, before, np.zeros(readbacks.bytes + 64, np.uint8), [], {})

    def _run_stream(self, prepared: PreparedCalls) -> None:
        if len(prepared.stream):
            self._setup.execute(prepared.stream.words, prepared.stream.arena, prepared.out)

    def _make_names(self) -> None:
        """Objects that the frame makes while it runs get their names here beforehand."""
        calls = self.frame.calls
        for command_id in np.unique(calls.ids).tolist():
            command = tables().commands[command_id]
            if not command.has(Role.MAKES_NAMES):
                continue
            for call in np.flatnonzero(calls.ids == command_id).tolist():
                arrays = [p for p in command.parameters if p.role == "names"]
                if arrays and arrays[0].object_class:
                    data = calls.argument(call, arrays[0].name)
                    names = np.frombuffer(data or b"", np.uint32).tolist()
                    self._create(command.name, call, arrays[0].object_class, names)
                elif command.return_class in ("program", "shader"):
                    batch = CallBatch()
                    arguments = [calls.argument(call, p.name) for p in command.parameters]
                    result = batch.call(command.name, *arguments)
                    self._setup.run(batch)
                    self.names.create(command.return_class, call, calls.result(call), result.value)
        if self.frame.context.profile != "core":
            self._adopt_names()

    def _adopt_names(self) -> None:
        """Names that the program made up and binds for the first time in the frame."""
        calls = self.frame.calls
        for command, parameter, class_name in _BINDS:
            found: set[int] = set()
            for like in tables().commands_like(command):
                rows = calls.calls_of(like.name)
                slot = tables()[command].parameter(parameter).slot
                found |= set(np.unique(calls.column(rows, slot)).tolist()) if len(rows) else set()
            unknown = sorted(found - {0} - set(self.names.by_class.get(class_name, {})))
            self._rebuilder.generate(class_name, unknown)

    def _create(self, command: str, call: int, class_name: str, names: list[int]) -> None:
        calls = self.frame.calls
        batch = CallBatch()
        out = batch.out(4 * len(names))
        first = [calls.argument(call, p.name) for p in calls.command(call).parameters if p.kind == "enum"]
        batch.call(command, *first, len(names), out)
        self._setup.run(batch)
        for name, here in zip(names, out.uints(), strict=True):
            self.names.create(class_name, call, name, here)

    # ---- the same start for every run ---------------------------------------------------------------

    def restore(self, between: Calls | None = None, images: bool = True) -> None:
        """Back to the state before the frame. `between` runs after contents were put back and before the context's
        state is. Without `images`, contents of textures, renderbuffers and the window stay as they are.
        """
        if self.names.by_class.get("drawable"):
            self._setup.run(self._blank_windows())
        if not images and self._restore_without_images is None:
            self._restore_without_images = self._rebuilder.restore_batches(self.written, images=False)
        contents, state = self._restore if images else self._restore_without_images or self._restore
        self._setup.run(contents)
        if between is not None:
            self._setup.run(own_calls(between))
        self._setup.run(state)
        if self._lists_change:
            self._run_stream(self._list_calls)
        self._run_stream(self._setup_calls)

    def _blank_windows(self) -> CallBatch:
        """What other windows showed before the frame is not known: they start black, in every run alike."""
        batch = CallBatch(self.offers)
        for capability in (GL.SCISSOR_TEST, GL.RASTERIZER_DISCARD):
            if self.offers.value(capability):
                batch.call("glDisable", capability)
        batch.call("glColorMask", 1, 1, 1, 1)
        batch.call("glClearColor", 0.0, 0.0, 0.0, 0.0)
        for number, size in self.other_windows.items():
            batch.call("wendaDrawable", number, *size)
            batch.call("glBindFramebuffer", self.offers.draw_target, 0)
            batch.call("glClear", GL.COLOR_BUFFER_BIT)
        batch.call("wendaDrawable", 0, 0, 0)
        return batch

    # ---- running ------------------------------------------------------------------------------------

    def prepare(self, edit: Edit | None = None) -> PreparedCalls:
        """Build, translate and hold an edited frame."""
        edit = edit or Edit()
        if not edit.insertions and edit.drop is None:
            return self._beginning(len(self.frame.calls) if edit.keep_until is None else edit.keep_until)
        return self._translated(edit)

    def _beginning(self, calls: int) -> PreparedCalls:
        """The first `calls` calls, cut from the whole frame, which is translated only once."""
        if self._whole is None:
            self._whole = self._translated(Edit())
        whole = self._whole
        # inserted calls belong to the captured call after them: the beginning ends before the first later one
        kept = (
            int(np.argmax(whole.origin >= calls))
            if len(whole.origin) and whole.origin.max() >= calls
            else len(whole.origin)
        )
        stream = whole.stream
        end = len(stream.words) if kept == len(stream) else int(stream.offsets[kept])
        return PreparedCalls(
            CallStream(stream.words[:end], stream.arena, stream.offsets[:kept]),
            whole.origin[:kept],
            whole.owner[:kept],
            whole.out,
            [],
            {call: place for call, place in whole.readbacks.items() if call < calls},
        )

    def _translated(self, edit: Edit) -> PreparedCalls:
        drop = self._dropped if edit.drop is None else edit.drop | self._dropped
        edit = Edit([*edit.insertions, *self._unbinding], drop, edit.keep_until)
        edited = apply_edit(self.frame.calls, edit)
        stream, readbacks = self.translator.translate(
            edited.words, edited.arena, edited.offsets, edited.origin, edited.out_size
        )
        out = np.zeros(edited.out_size + readbacks.bytes + 64, np.uint8)
        places = {int(edited.origin[call]): place for call, place in readbacks.places.items()}
        return PreparedCalls(stream, edited.origin, edited.owner, out, edited.out_starts, places)

    def edited(self, edit: Edit) -> OpenGLFrame:
        """The frame with an edit made, in captured names: for counting what it consists of."""
        drop = edit.drop if edit.drop is not None else np.zeros(len(self.frame.calls), bool)
        made = apply_edit(self.frame.calls, Edit(edit.insertions, drop, edit.keep_until))
        return dataclasses.replace(self.frame, calls=CallStream(made.words, made.arena, made.offsets))

    def run(self, prepared: Prepared, between: Calls | None = None) -> None:
        """Run an edited frame from the frame's own start (see `restore`). Raises ReplayError, naming the call."""
        assert isinstance(prepared, PreparedCalls)
        self.restore(between)
        self.drain()
        self.run_part(prepared, 0, len(prepared.stream))

    def run_part(self, prepared: Prepared, first: int, end: int) -> None:
        """Run calls [first, end) of a prepared frame, from whatever state there is."""
        assert isinstance(prepared, PreparedCalls)
        if first >= end:
            return
        if self.watch is not None:
            self.watch[0] = end - first
            self.watch[1:].view(np.int32)[: end - first] = prepared.origin[first:end]
        stream = prepared.stream
        last = len(stream.words) if end == len(stream) else int(stream.offsets[end])
        self.executor.execute(stream.words[int(stream.offsets[first]) : last], stream.arena, prepared.out)

    def run_batch(self, batch: CallBatch) -> None:
        """Run calls of our own, in names of this context."""
        self._setup.run(batch)

    def packed(self, batch: CallBatch) -> PackedBatch:
        """Calls of our own that are to be run many times."""
        return PackedBatch(self._setup, batch)

    def fresh_names(self, class_name: str, count: int) -> list[int]:
        """New objects for edits to use, as names that no captured object has."""
        taken = len(self.names.by_class.get(class_name, {}))
        captured = [_FRESH + taken + i for i in range(count)]
        self._rebuilder.generate(class_name, captured)
        return captured

    def add(self, *brought_in: object) -> None:
        """Make objects that edits bring in (`Objects` each), in captured names of their own; those of the last few
        edits stay, under their names here. Raises ReplayError when a program does not link.
        """
        own = [objects for objects in brought_in if isinstance(objects, Objects)]
        assert len(own) == len(brought_in)
        kinds = ("buffers", "textures", "framebuffers", "vertex_arrays", "programs")
        together = {kind: [record for objects in own for record in getattr(objects, kind)] for kind in kinds}
        self._rebuilder.add(own[0] if len(own) == 1 else Objects(**together))  # type: ignore[arg-type]

    def define_images(self, textures: list[TextureRecord], renderbuffers: list[RenderbufferRecord]) -> None:
        """Make textures and renderbuffers under names that were made for them (`fresh_names`)."""
        self._rebuilder.define_images(textures, renderbuffers)

    def images_batch(self, textures: list[TextureRecord], renderbuffers: list[RenderbufferRecord]) -> CallBatch:
        """Calls that give images of the frame other contents (see `restore`). Raises ReplayError."""
        return self._rebuilder.images_batch(textures, renderbuffers)

    def redefine_vertex_arrays(self) -> None:
        """Put back arrays that work of ours used: contexts without array objects have but one set."""
        self._rebuilder.redefine_vertex_arrays()

    def drain(self) -> None:
        batch = CallBatch()
        batch.call("glFinish")
        self._setup.run(batch)

    # ---- pictures --------------------------------------------------------------------------------------

    def read_window(self) -> Picture:
        """The default framebuffer as it is now."""
        default = self.frame.default_framebuffer
        return self.read_framebuffer(0, default.width, default.height, GL.FRONT if self.single else GL.BACK)

    def read_other_windows(self) -> dict[int, Picture]:
        """Windows that the frame goes to besides its own, by numbers of ours. Afterwards the frame's own is the
        current one.
        """
        found = {}
        for number, (width, height) in self.other_windows.items():
            batch = CallBatch()
            batch.call("wendaDrawable", number, width, height)
            self._setup.run(batch)
            found[number] = self.read_framebuffer(0, width, height, GL.FRONT if self.single else GL.BACK)
        if found:
            batch = CallBatch()
            batch.call("wendaDrawable", 0, 0, 0)
            self._setup.run(batch)
        return found

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

    def read_window_depth(self) -> npt.NDArray[np.uint32]:
        """Depth of the window as the capture keeps it: 32-bit integers, shape (pixels,), bottom row first."""
        default = self.frame.default_framebuffer
        batch = self._read_batch(0, GL.NONE)
        out = batch.out(default.width * default.height * 4)
        batch.call("glReadPixels", 0, 0, default.width, default.height, GL.DEPTH_COMPONENT, GL.UNSIGNED_INT, out)
        self._setup.run(batch)
        return np.frombuffer(out.data, np.uint32)

    def _read_batch(self, here: int, buffer: int) -> CallBatch:
        site = self._rebuilder.site
        batch = site.batch()
        pack_tightly(batch, site.offers)
        batch.call("glBindFramebuffer", site.offers.read_target, here)
        if buffer != GL.NONE:
            batch.call("glReadBuffer", buffer)
        return batch

    def read_target(self, target: Target) -> Picture | npt.NDArray[np.float32]:
        """The colour of a pass target as it is now, or its depth when it has no colour."""
        if target.framebuffer == 0 and target.window:
            return self.read_framebuffer(0, target.width, target.height, GL.FRONT if self.single else GL.BACK)
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
        if (target.framebuffer and GL.DEPTH_ATTACHMENT not in points) or (
            not target.framebuffer and not self.frame.default_framebuffer.depth
        ):
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
            return self.read_framebuffer(
                self.names.get("framebuffer", framebuffer), reference.width, reference.height, GL.COLOR_ATTACHMENT0
            )
        picture = self.read_target(target)
        assert isinstance(picture, Picture)
        return picture

    def close(self) -> None:
        for other in self._variants.values():
            other.close()
        self.context.make_current()
        self.context.close()
