"""Takes one frame of a held target: the snapshot, the recorded calls, the finished picture."""

from __future__ import annotations

import contextlib
import datetime
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

import wendascope
from wendascope.backends.opengl.calls.contexts import ContextSettler, OtherContext
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
from wendascope.errors import TargetError
from wendascope.frame.context import ContextInfo
from wendascope.frame.frame import FrameStatistics, Metadata, Picture
from wendascope.registry import GL
from wendascope.registry.numbers import RecordedFlag
from wendascope.tap.channel import Channel, FrameEnd, Message, MessageKind, failure_text, read_memory_file
from wendascope.tap.driver_memory import driver_memory
from wendascope.task import QUIET, Task
from wendascope.texts import readable

CLASSES = (
    "buffer", "texture", "sampler", "renderbuffer", "program", "shader", "framebuffer", "vertex array",
    "program pipeline", "transform feedback", "query",
)  # fmt: skip
"""Object classes in the order of the tap's name table."""
_SHARED = 6
_FOLLOWING_SECONDS = 3.0
"""How long the frame after the captured one is waited for; a program that draws on demand may not draw it."""
"""Called with what is being done and how far it is, 0 to 1."""


@dataclass(frozen=True)
class Collect:
    """What goes into the file beyond what a replay needs."""

    unused: bool = True
    """Contents of objects that the frame does not touch."""
    depth: bool = False
    """The depth of the finished picture, for comparing; not on OpenGL ES."""
    following: bool = True
    """The calls of the frame after, by which proofs tell whether what a frame leaves behind is read again."""


def take_frame(
    channel: Channel,
    paused: Message,
    frame_end: FrameEnd,
    command: Sequence[str],
    beats: list[FrameStatistics],
    collect: Collect = Collect(),
    task: Task = QUIET,
    before_resume: Callable[[], None] = lambda: None,
) -> OpenGLFrame:
    """Take the frame that follows the frame end at which the target is held. Raises TargetError.

    `before_resume` runs when the frame is recorded and the target still held: what is armed there misses nothing.
    """
    held = time.monotonic()
    kept_by_driver = driver_memory(channel.process)
    task.tell("reading objects", 0.0)
    number = paused.values[0]
    snapshot, journal = _snapshot(channel, paused)
    contexts = _Contexts(channel, paused.values[1], snapshot, journal)
    links = LinkSettler(journal, snapshot.objects, snapshot.state)
    snapshot_seconds = time.monotonic() - held
    task.tell("recording", 0.5)
    channel.send(MessageKind.RECORD)
    recorded = contexts.until_recorded(time.monotonic() + 120.0)
    if recorded is None:
        raise TargetError("the target did not end its frame within 120 s")
    calls = links.settle(contexts.settle(_recorded(recorded)))
    reference, framebuffer = read_reference(channel, snapshot, frame_end)
    depth = read_depth(channel, snapshot) if collect.depth and framebuffer == 0 else None
    following = _following(channel, contexts) if collect.following else merge_streams([])
    with contextlib.suppress(TargetError):  # the frame is whole, whatever became of the program since
        before_resume()
        if following is not None:
            channel.send(MessageKind.RESUME)
    began, ended, thread_ns, switches = recorded.values[11:15]
    metadata = Metadata(
        program=readable(command[0]),
        arguments=list(map(readable, command[1:])),
        captured_at=datetime.datetime.now(datetime.UTC).isoformat(timespec="seconds"),
        frame_number=number,
        frame_end=frame_end.name,
        wendascope=wendascope.__version__,
        held_seconds=snapshot_seconds,
        capture_seconds=time.monotonic() - held,
        recorded_ns=_time(ended - began),
        began_ns=_time(began),
        thread_ns=_time(thread_ns),
        voluntary=switches >> 32,
        involuntary=switches & 0xFFFFFFFF,
        driver_memory=kept_by_driver,
    )
    if following:
        following = links.settle(contexts.settle(following))
    frame = OpenGLFrame(
        metadata,
        contexts.context,
        snapshot.default_framebuffer,
        snapshot.state,
        snapshot.objects,
        snapshot.blobs,
        calls,
        snapshot.setup(calls),
        snapshot.lists,
        beats,
        snapshot.caveats,
        reference,
        framebuffer,
        depth,
        merge_streams([]) if following is None else following,
        contexts.others,
    )
    metadata.left_out = drop_unseen_contents(frame)
    if not collect.unused:
        metadata.left_out += drop_unused_contents(frame)
    frame.caveats += frame_caveats(frame) + links.caveats + contexts.caveats
    return frame


class _Contexts:
    """Reads the other contexts that draw during the recording, each right before its first call."""

    def __init__(self, channel: Channel, number: int, snapshot: Snapshot, journal: Journal) -> None:
        self._channel, self._journal = channel, journal
        self._settler = ContextSettler(number, snapshot.context, snapshot.state, snapshot.objects, snapshot.fixed)
        self.settle = self._settler.settle
        self._flags = 0

    @property
    def context(self) -> ContextInfo:
        return self._settler.context

    @property
    def others(self) -> list[OtherContext]:
        return self._settler.others

    @property
    def caveats(self) -> list[str]:
        more = []
        if self._flags & RecordedFlag.MANY_CHANGES:
            more.append("contexts change too often: the fixed-function state of later changes was not read")
        if self._flags & RecordedFlag.LATE_CONTEXT:
            more.append("a context was made during the frame that shares its objects: its calls were not recorded")
        return self._settler.caveats + more

    def until_recorded(self, deadline: float) -> Message | None:
        """The message that ends the recording; None when it does not come in time. Raises TargetError."""
        while (left := deadline - time.monotonic()) > 0:
            message = self._channel.receive(left)
            if message is not None and message.kind == MessageKind.RECORDED:
                self._flags |= message.values[10]
                return message
            if message is not None and message.kind == MessageKind.FAILED:
                raise TargetError(failure_text(message))
            if message is not None and message.kind == MessageKind.CONTEXT:
                self._meet(message)
            elif message is not None:
                message.close()
        return None

    def _meet(self, message: Message) -> None:
        _, context, group, width, height = message.values[:5]
        try:
            names = _names(read_memory_file(message.fds[0], message.values[9])[0], context, group)
        finally:
            message.close()
        size = (width, height)
        known = self._settler.known(context)
        if known is None:
            self._settler.meet(context, read_other_context(self._channel, names, self._journal, size))
        elif known.profile == "compatibility":
            fixed = read_fixed_function_again(self._channel, known, names, self._journal, size)
            self._settler.meet(context, fixed)
        else:
            self._settler.meet(context, merge_streams([]))
        self._channel.send(MessageKind.RESUME)


def _time(ns: int) -> int:
    """0 for what can be no time."""
    return ns if 0 <= ns < 1 << 62 else 0


def _snapshot(channel: Channel, paused: Message) -> tuple[Snapshot, Journal]:
    _, context, group, width, height, platform, _, journal_words, journal_bytes, names_bytes, kept_bytes = (
        paused.values[:11]
    )
    try:
        words, arena, rows, kept_data = read_memory_file(
            paused.fds[0], journal_words, journal_bytes, names_bytes, kept_bytes
        )
        journal = Journal(_stream(words, arena), group)
        names = _names(rows, context, group)
        kept = Kept.parse(bytes(kept_data))
    finally:
        paused.close()
    snapshot = take_snapshot(channel, names, journal, kept, (width, height))
    snapshot.context.platform = {1: "GLX", 2: "EGL"}.get(platform, "none")
    return snapshot, journal


def _following(channel: Channel, contexts: _Contexts) -> CallStream | None:
    """Record the frame after as well, calls only; None when it does not come in time: whoever listens to the target
    lets it go on.
    """
    try:
        channel.send(MessageKind.RECORD)
        recorded = contexts.until_recorded(time.monotonic() + _FOLLOWING_SECONDS)
        return None if recorded is None else _recorded(recorded)
    except TargetError:
        return merge_streams([])  # it ended, or drew nothing, or too much: the captured frame is whole all the same


def _recorded(message: Message) -> CallStream:
    try:
        words, arena_bytes = message.values[7:9]
        calls = settle_writes(_stream(*read_memory_file(message.fds[0], words, arena_bytes)))
    finally:
        message.close()
    if len(calls) == 0:
        raise TargetError("the frame contains no OpenGL calls; the program may draw from another thread")
    return calls


def read_depth(executor: Executor, snapshot: Snapshot) -> bytes | None:
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


def read_reference(executor: Executor, snapshot: Snapshot, frame_end: FrameEnd) -> tuple[Picture | None, int]:
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
    framebuffer = 0 if frame_end == FrameEnd.swap else bound
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
    if len(words) % 8:
        raise TargetError("the target sent less than it says")
    return CallStream.parse(np.frombuffer(words, np.uint64), np.frombuffer(arena, np.uint8))


def _names(data: memoryview, context: int, group: int) -> dict[str, list[int]]:
    """Live names by class, of the captured context and its share group."""
    rows = np.frombuffer(data, np.uint32).reshape(-1, 3)
    found: dict[str, list[int]] = {}
    for number, class_name in enumerate(CLASSES):
        owner = group if number < _SHARED else context
        mine = rows[(rows[:, 0] == number) & (rows[:, 1] == owner)]
        found[class_name] = mine[:, 2].tolist()
    return found
