"""Takes an OpenGL frame from a held program: the snapshot, the recorded calls, the finished picture."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import numpy.typing as npt

from wendascope.backends.opengl.calls.contexts import ContextSettler
from wendascope.backends.opengl.calls.journal import Journal
from wendascope.backends.opengl.calls.kept import Kept
from wendascope.backends.opengl.calls.mappings import settle_writes
from wendascope.backends.opengl.calls.packed import CallBatch, CallStream, Executor, merge_streams
from wendascope.backends.opengl.calls.prune import drop_unseen_contents, drop_unused_contents
from wendascope.backends.opengl.calls.relinks import LinkSettler
from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.backends.opengl.snapshot import Snapshot, read_fixed_function_again, read_other_context, take_snapshot
from wendascope.backends.opengl.state.offers import Offers
from wendascope.backends.opengl.state.state_table import PACK_STORE
from wendascope.backends.opengl.tables.passes import framebuffer_size
from wendascope.backends.opengl.words.caveats import frame_caveats
from wendascope.backends.taking import Stand
from wendascope.errors import TargetError
from wendascope.frame.frame import FrameStatistics, Metadata, Picture
from wendascope.registry import GL
from wendascope.registry.numbers import RecordedFlag

_CLASSES = (
    "buffer", "texture", "sampler", "renderbuffer", "program", "shader", "framebuffer", "vertex array",
    "program pipeline", "transform feedback", "query",
)  # fmt: skip
"""Object classes in the order of the tap's name table."""
_SHARED = 6
_PLATFORMS = {1: "GLX", 2: "EGL"}


class OpenGLTaking:
    """See `backends.taking.Taking`. Made while the program is held before the frame: reads all its objects.

    The files of a stand are words and arena of the journal, names, and data that was kept; those of another context
    begin with the names. Files of calls are words and arena.
    """

    def __init__(self, target: Executor, stand: Stand) -> None:
        self._target = target
        words, arena, names, kept = stand.files
        self._journal = Journal(_stream(words, arena), stand.group)
        self._snapshot = take_snapshot(target, _names(names, stand), self._journal, Kept.parse(bytes(kept)), stand.size)
        snapshot = self._snapshot
        snapshot.context.platform = _PLATFORMS.get(stand.platform, "none")
        self._contexts = ContextSettler(
            stand.context, snapshot.context, snapshot.state, snapshot.objects, snapshot.fixed
        )
        self._links = LinkSettler(self._journal, snapshot.objects, snapshot.state)
        self._flags = 0
        self._following: CallStream | None = None
        self._picture: tuple[Picture | None, int] = (None, 0)
        self._depth: bytes | None = None
        self._addresses = 0
        """Calls that pass one where an offset is meant."""

    def meet(self, stand: Stand) -> None:
        """Read another context before its first call; of a known one with fixed functions, what it changed since."""
        names = _names(stand.files[0], stand)
        known = self._contexts.known(stand.context)
        if known is None:
            other = read_other_context(self._target, names, self._journal, stand.size)
            self._contexts.meet(stand.context, other)
        elif known.profile == "compatibility":
            fixed = read_fixed_function_again(self._target, known, names, self._journal, stand.size)
            self._contexts.meet(stand.context, fixed)
        else:
            self._contexts.meet(stand.context, merge_streams([]))

    def record(self, files: Sequence[memoryview], flags: int) -> None:
        """See `Taking`."""
        self._flags |= flags
        calls, self._addresses = _recorded(files)
        self._calls = self._links.settle(self._contexts.settle(calls))

    def finish(self, shown: bool, depth: bool) -> None:
        """See `Taking`."""
        self._picture = _read_picture(self._target, self._snapshot, shown)
        if depth and self._picture[1] == 0:
            self._depth = _read_depth(self._target, self._snapshot)

    def follow(self, files: Sequence[memoryview], flags: int) -> None:
        """See `Taking`."""
        self._flags |= flags
        self._following, _ = _recorded(files)

    def frame(self, metadata: Metadata, statistics: list[FrameStatistics], unused: bool) -> OpenGLFrame:
        """See `Taking`."""
        following = merge_streams([])
        if self._following is not None:
            following = self._links.settle(self._contexts.settle(self._following))
        snapshot, (picture, framebuffer) = self._snapshot, self._picture
        frame = OpenGLFrame(
            metadata,
            self._contexts.context,
            snapshot.default_framebuffer,
            snapshot.state,
            snapshot.objects,
            snapshot.blobs,
            self._calls,
            snapshot.setup(self._calls),
            snapshot.lists,
            statistics,
            snapshot.caveats,
            picture,
            framebuffer,
            self._depth,
            following,
            self._contexts.others,
        )
        metadata.left_out = drop_unseen_contents(frame)
        if not unused:
            metadata.left_out += drop_unused_contents(frame)
        frame.caveats += frame_caveats(frame) + self._links.caveats + self._contexts.caveats + self._more_caveats()
        return frame

    def _more_caveats(self) -> list[str]:
        more = []
        if self._flags & RecordedFlag.MANY_CHANGES:
            more.append("contexts change too often: the fixed-function state of later changes was not read")
        if self._flags & RecordedFlag.LATE_CONTEXT:
            more.append("a context was made during the frame that shares its objects: its calls were not recorded")
        if self._addresses:
            which = "calls pass an address" if self._addresses > 1 else "call passes an address"
            more.append(
                f"{self._addresses} {which} where a buffer is bound and an offset into it is meant: the program's"
                " mistake; replayed, such a call does nothing"
            )
        return more


def _recorded(files: Sequence[memoryview]) -> tuple[CallStream, int]:
    """The calls, and how many pass an address where a buffer is bound."""
    stream = CallStream.walk(*_columns(*files))
    addresses = stream.addresses_as_offsets()
    stream.validate()
    if len(stream) == 0:
        raise TargetError("the frame contains no OpenGL calls; the program may draw from another thread")
    return settle_writes(stream), addresses


def _read_depth(executor: Executor, snapshot: Snapshot) -> bytes | None:
    """Depth of the window as 32-bit integers; None where it has none or cannot be read."""
    default = snapshot.default_framebuffer
    if snapshot.context.es or not default.depth or default.samples or not default.width or not default.height:
        return None
    batch = CallBatch(Offers(snapshot.context))
    values = {}
    for name in (
        "READ_FRAMEBUFFER_BINDING",
        "PIXEL_PACK_BUFFER_BINDING",
        *PACK_STORE,
    ):
        values[name] = batch.out(4)
        batch.call("glGetIntegerv", getattr(GL, name), values[name])
    executor.run(batch)
    batch = CallBatch(Offers(snapshot.context))
    batch.call("glBindFramebuffer", GL.READ_FRAMEBUFFER, 0)
    batch.call("glBindBuffer", GL.PIXEL_PACK_BUFFER, 0)
    for name in values:
        if name.startswith("PACK"):
            batch.call("glPixelStorei", getattr(GL, name), 1 if name == "PACK_ALIGNMENT" else 0)
    depth = batch.out(default.width * default.height * 4)
    batch.call("glReadPixels", 0, 0, default.width, default.height, GL.DEPTH_COMPONENT, GL.UNSIGNED_INT, depth)
    for name, out in values.items():
        if name.startswith("PACK"):
            batch.call("glPixelStorei", getattr(GL, name), out.ints()[0])
    batch.call("glBindBuffer", GL.PIXEL_PACK_BUFFER, values["PIXEL_PACK_BUFFER_BINDING"].ints()[0])
    batch.call("glBindFramebuffer", GL.READ_FRAMEBUFFER, values["READ_FRAMEBUFFER_BINDING"].ints()[0])
    executor.run(batch)
    return depth.data


def _read_picture(executor: Executor, snapshot: Snapshot, shown: bool) -> tuple[Picture | None, int]:
    """The finished picture and the framebuffer it is in. Leaves the target's state as it was."""
    offers = Offers(snapshot.context)
    target = offers.read_target
    bindings = {"framebuffer": GL.READ_FRAMEBUFFER_BINDING if target == GL.READ_FRAMEBUFFER else GL.FRAMEBUFFER_BINDING}
    if offers.value(GL.PIXEL_PACK_BUFFER):
        bindings["pack"] = GL.PIXEL_PACK_BUFFER_BINDING
    store = [name for name in PACK_STORE if offers("GL_" + name)]
    batch = CallBatch(offers)
    outs = {name: batch.out(4) for name in (*bindings, *store)}
    for name, out in outs.items():
        batch.call("glGetIntegerv", bindings.get(name) or getattr(GL, name), out)
    executor.run(batch)
    value = {name: out.ints()[0] for name, out in outs.items()}
    bound = value["framebuffer"]
    batch = CallBatch(offers)
    window_buffer = batch.out(4)
    batch.call("glBindFramebuffer", target, 0)
    if offers.value(GL.READ_BUFFER):
        batch.call("glGetIntegerv", GL.READ_BUFFER, window_buffer)
    batch.call("glBindFramebuffer", target, bound)
    executor.run(batch)
    framebuffer = 0 if shown else bound
    default = snapshot.default_framebuffer
    width, height = default.width, default.height
    if framebuffer:
        record = snapshot.objects.framebuffer(framebuffer)
        width, height = framebuffer_size(record, snapshot.objects) if record else (0, 0)
    batch = CallBatch(offers)
    picture = None
    if width and height:
        batch.call("glBindFramebuffer", target, framebuffer)
        if framebuffer == 0:
            batch.call("glReadBuffer", GL.BACK if default.double else GL.FRONT)
        if "pack" in value:
            batch.call("glBindBuffer", GL.PIXEL_PACK_BUFFER, 0)
        for name in store:
            batch.call("glPixelStorei", getattr(GL, name), 1 if name == "PACK_ALIGNMENT" else 0)
        picture = batch.out(width * height * 4)
        batch.call("glReadPixels", 0, 0, width, height, GL.RGBA, GL.UNSIGNED_BYTE, picture)
        for name in store:
            batch.call("glPixelStorei", getattr(GL, name), value[name])
        if framebuffer == 0:
            batch.call("glReadBuffer", window_buffer.ints()[0])
        if "pack" in value:
            batch.call("glBindBuffer", GL.PIXEL_PACK_BUFFER, value["pack"])
    batch.call("glBindFramebuffer", target, bound)
    executor.run(batch)
    return (Picture.from_bytes(picture.data, width, height) if picture else None), framebuffer


def _stream(words: memoryview, arena: memoryview) -> CallStream:
    """Packed calls from the bytes of their words and of their arena."""
    return CallStream.parse(*_columns(words, arena))


def _columns(words: memoryview, arena: memoryview) -> tuple[npt.NDArray[np.uint64], npt.NDArray[np.uint8]]:
    if len(words) % 8:
        raise TargetError("the target sent less than it says")
    return np.frombuffer(words, np.uint64), np.frombuffer(arena, np.uint8)


def _names(data: memoryview, stand: Stand) -> dict[str, list[int]]:
    """Live names by class, of the captured context and its share group."""
    rows = np.frombuffer(data, np.uint32).reshape(-1, 3)
    names: dict[str, list[int]] = {}
    for number, class_name in enumerate(_CLASSES):
        owner = stand.group if number < _SHARED else stand.context
        mine = rows[(rows[:, 0] == number) & (rows[:, 1] == owner)]
        names[class_name] = mine[:, 2].tolist()
    return names
