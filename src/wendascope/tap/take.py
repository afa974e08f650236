"""Takes one frame of a held target: holds it, has it record, hears what it draws, and lets it go on."""

from __future__ import annotations

import contextlib
import datetime
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import wendascope
from wendascope import backends
from wendascope.backends.taking import Stand, Taking
from wendascope.errors import TargetError
from wendascope.frame.frame import Frame, FrameStatistics, Metadata
from wendascope.tap.channel import Channel, FrameEnd, Message, MessageKind, failure_text, read_memory_file
from wendascope.tap.driver_memory import driver_memory
from wendascope.task import QUIET, Task
from wendascope.texts import readable

_RECORD_SECONDS = 120.0
_FOLLOWING_SECONDS = 3.0
"""How long the frame after the captured one is waited for; a program that draws on demand may not draw it."""


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
) -> Frame:
    """Take the frame that follows the frame end at which the target is held. Raises TargetError.

    `before_resume` runs when the frame is recorded and the target still held: what is armed there misses nothing.
    """
    held = time.monotonic()
    kept_by_driver = driver_memory(channel.process)
    task.tell("reading objects", 0.0)
    number = paused.values[0]
    taking = begin_taking(channel, paused)
    snapshot_seconds = time.monotonic() - held
    task.tell("recording", 0.5)
    channel.send(MessageKind.RECORD)
    recorded = _until_recorded(channel, taking, time.monotonic() + _RECORD_SECONDS)
    if recorded is None:
        raise TargetError(f"the target did not end its frame within {_RECORD_SECONDS:.0f} s")
    taking.record(_calls(recorded), recorded.values[10])
    taking.finish(frame_end == FrameEnd.swap, collect.depth)
    goes_on = not collect.following or _follow(channel, taking)
    with contextlib.suppress(TargetError):  # the frame is whole, whatever became of the program since
        before_resume()
        if goes_on:
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
    return taking.frame(metadata, beats, collect.unused)


def begin_taking(channel: Channel, paused: Message) -> Taking:
    """Read the objects of a target that is held before a frame. Raises TargetError."""
    _, context, group, width, height, platform, _, *sizes = paused.values[:11]
    try:
        files = read_memory_file(paused.fds[0], *sizes)
    finally:
        paused.close()
    return backends.taking(channel.api, channel, Stand(context, group, (width, height), platform, files))


def _until_recorded(channel: Channel, taking: Taking, deadline: float) -> Message | None:
    """The message that ends the recording; None when it does not come in time. Contexts that draw meanwhile are read.
    Raises TargetError.
    """
    while (left := deadline - time.monotonic()) > 0:
        message = channel.receive(left)
        if message is None:
            continue
        if message.kind == MessageKind.RECORDED:
            return message
        if message.kind == MessageKind.FAILED:
            raise TargetError(failure_text(message))
        if message.kind == MessageKind.CONTEXT:
            _, context, group, width, height = message.values[:5]
            try:
                files = read_memory_file(message.fds[0], message.values[9])
            finally:
                message.close()
            taking.meet(Stand(context, group, (width, height), 0, files))
            channel.send(MessageKind.RESUME)
        else:
            message.close()
    return None


def _follow(channel: Channel, taking: Taking) -> bool:
    """Record the frame after as well, calls only. Not, where it does not come in time: whoever listens to the target
    lets it go on.
    """
    try:
        channel.send(MessageKind.RECORD)
        recorded = _until_recorded(channel, taking, time.monotonic() + _FOLLOWING_SECONDS)
        if recorded is None:
            return False
        taking.follow(_calls(recorded), recorded.values[10])
    except TargetError:
        pass  # it ended, or drew nothing, or too much: the captured frame is whole all the same
    return True


def _calls(message: Message) -> list[memoryview]:
    try:
        return read_memory_file(message.fds[0], *message.values[7:9])
    finally:
        message.close()


def _time(ns: int) -> int:
    """0 for what can be no time."""
    return ns if 0 <= ns < 1 << 62 else 0
