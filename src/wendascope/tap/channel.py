"""Messages between Wendascope and a tapped target, over a Unix socket with memory files beside it.

The message layout is that of `native/control.c`; `docs/tap-protocol.md` specifies it.
"""

from __future__ import annotations

import array
import contextlib
import errno
import fcntl
import itertools
import mmap
import os
import select
import socket
import struct
import time
from dataclasses import dataclass

import numpy as np

from wendascope.backends.taking import Batch
from wendascope.errors import TargetError
from wendascope.registry.numbers import MESSAGE_VALUES, PROTOCOL, FrameEnd, MessageKind

__all__ = ["LARGEST_FILE", "PROTOCOL", "Channel", "FrameEnd", "Message", "MessageKind", "read_memory_file", "same_user"]
_LAYOUT = struct.Struct(f"<II{MESSAGE_VALUES}Q")
_F_ADD_SEALS, _F_SEAL_SHRINK = 1033, 2
LARGEST_FILE = 4 << 30
"""Bytes that are taken from a target, or asked of it, at once."""
_HEARD_SECONDS = 5.0
"""A target that is held and does not read what it is told for so long has hung up, or never will."""
PATIENCE_SECONDS = 60.0
"""How long a target that is held hears nothing before it hangs up and goes on."""
_RUN_NO_MEMORY = 6
OBJECTS_FAILED, CONFINED = 1, 2
"""What could not be handed over (FAILED): memory, or anything any more; 0 is a frame."""

_FILES = {
    MessageKind.HELLO: 0,
    MessageKind.STATISTICS: 0,
    MessageKind.PAUSED: 1,
    MessageKind.RAN: 0,
    MessageKind.RECORDED: 1,
    MessageKind.CONTEXT: 1,
    MessageKind.MEMORY: 1,
    MessageKind.FAILED: 0,
}
"""What a target says, and how many memory files come along."""


@dataclass
class Message:
    kind: MessageKind
    values: tuple[int, ...]
    fds: list[int]

    def close(self) -> None:
        for fd in self.fds:
            os.close(fd)
        self.fds = []


class Channel:
    """One target's end of the conversation."""

    def __init__(self, connection: socket.socket) -> None:
        self._socket = connection
        self._memory: mmap.mmap | None = None
        self._memory_size = 0
        self._armed: bytes | None = None
        """What the target is to be told when it is to be held, where there was no room for it yet."""
        self.process = 0
        self.api = "OpenGL"
        """What it draws with; frames say whether it is that for embedded systems."""

    def fileno(self) -> int:
        return self._socket.fileno()

    def close(self) -> None:
        self._socket.close()
        self._forget_memory()

    def _forget_memory(self) -> None:
        if self._memory is not None:
            with contextlib.suppress(BufferError):
                self._memory.close()
            self._memory = None

    def send(self, kind: MessageKind, *values: int, fds: tuple[int, ...] = ()) -> None:
        """Say something to a target that is held, and so listens. Raises TargetError when it is gone."""
        data = _packed(kind, values, len(fds))
        ancillary = [(socket.SOL_SOCKET, socket.SCM_RIGHTS, array.array("i", fds))] if fds else []
        until = time.monotonic() + _HEARD_SECONDS
        while not (self.flush() and self._fits(data, ancillary)):
            left = until - time.monotonic()
            if left <= 0 or not select.select([], [self._socket], [], left)[1]:
                raise TargetError("the target does not listen any more; it may be stopped")

    def _fits(self, data: bytes, ancillary: list[tuple[int, int, array.array[int]]]) -> bool:
        """Whether it was sent; nothing here ever waits. Raises TargetError."""
        try:
            self._socket.sendmsg([data], ancillary, socket.MSG_DONTWAIT)
        except BlockingIOError:
            return False
        except OSError as error:
            raise TargetError("the target went away during the capture") from error
        return True

    def arm(self, frame: int, slower_than_ns: int, frame_end: FrameEnd) -> None:
        """Say from which frame on the target is held (0: not at all), after how slow a one, and what ends a frame.

        A program that draws nothing reads nothing: then the last thing said is kept, and sent when there is room.
        """
        patience = round(1000 * PATIENCE_SECONDS)
        self._armed = _packed(MessageKind.ARM, (frame, slower_than_ns, int(frame_end), PROTOCOL, patience), 0)
        self.flush()

    def flush(self) -> bool:
        """Send what there was no room for; whether nothing is left. Raises TargetError when the target is gone."""
        if self._armed is not None and self._fits(self._armed, []):
            self._armed = None
        return self._armed is None

    def ask_for_objects(self) -> bool:
        """Have the target tell what lives in its memory, at the end of its frame or while it is held; whether there
        was room to ask. Raises TargetError when it is gone.
        """
        return self._fits(_packed(MessageKind.OBJECTS, (), 0), [])

    def receive(self, timeout: float | None) -> Message | None:
        """The next message, or None when `timeout` seconds pass. Raises TargetError at the end."""
        readable, _, _ = select.select([self._socket], [], [], timeout)
        if not readable:
            return None
        try:
            data, ancillary, _, _ = self._socket.recvmsg(_LAYOUT.size, socket.CMSG_SPACE(4 * 4))
        except OSError as error:
            raise TargetError("the target went away during the capture") from error
        if len(data) != _LAYOUT.size:
            raise TargetError("the target went away during the capture")
        fds = array.array("i")
        for level, kind, content in ancillary:
            if level == socket.SOL_SOCKET and kind == socket.SCM_RIGHTS:
                fds.frombytes(content[: len(content) // fds.itemsize * fds.itemsize])
        unpacked = _LAYOUT.unpack(data)
        if unpacked[0] not in _FILES or len(fds) < _FILES[unpacked[0]]:
            Message(MessageKind.HELLO, (), list(fds)).close()
            raise TargetError(f"the target sent a message that is not understood ({unpacked[0]} with {len(fds)} files)")
        return Message(MessageKind(unpacked[0]), unpacked[2:], list(fds))

    def expect(self, kind: MessageKind, timeout: float) -> Message:
        """The next message of that kind; others are dropped. Raises TargetError."""
        until = time.monotonic() + timeout
        while True:
            message = self.receive(max(0.0, until - time.monotonic()))
            if message is None:
                raise TargetError(f"the target did not answer within {timeout:g} s")
            if message.kind == kind:
                return message
            message.close()

    # ---- running calls: the `Held` protocol ----------------------------------------------------

    def run(self, batch: Batch) -> None:
        """Run a batch in the held target. Raises TargetError."""
        words = np.frombuffer(batch.words, np.uint64)
        calls_at, arena_at = 0, len(words) * 8
        out_at = arena_at + (len(batch.arena) + 15) // 8 * 8
        fds = self._reserve(out_at + batch.out_size + 64)
        assert self._memory is not None
        self._memory[calls_at : len(words) * 8] = words.tobytes()
        self._memory[arena_at : arena_at + len(batch.arena)] = bytes(batch.arena)
        # what GL refuses to tell is 0, not what the batch before left there
        np.frombuffer(self._memory, np.uint8, batch.out_size, out_at)[:] = 0
        try:
            self.send(
                MessageKind.RUN, calls_at, len(words), arena_at, len(batch.arena), out_at, batch.out_size, 0,
                self._memory_size, fds=fds,
            )  # fmt: skip
        finally:
            for fd in fds:
                os.close(fd)
        reply = self.expect(MessageKind.RAN, 120.0)
        if reply.values[1] == _RUN_NO_MEMORY:
            self._forget_memory()  # it is offered anew, should the target be asked again
            raise TargetError("the target can have no more memory: its objects cannot be read; raise its limit")
        if reply.values[1]:
            raise TargetError(f"the target refused call {reply.values[0]} of a snapshot (reason {reply.values[1]})")
        view = memoryview(self._memory)
        try:
            done = np.frombuffer(view[: len(words) * 8], np.uint64)
            batch.finish(done, view[out_at : out_at + batch.out_size])
            del done
        finally:
            view.release()

    def _reserve(self, size: int) -> tuple[int, ...]:
        """Make the shared memory at least `size` bytes; the new file to send along, if one was made."""
        if self._memory is not None and size <= self._memory_size:
            return ()
        if size > LARGEST_FILE:
            raise TargetError(f"an object of the target asks for {size >> 30} GiB at once, which cannot be read")
        self._forget_memory()
        size = max(1 << 20, 1 << (size - 1).bit_length())
        fd = os.memfd_create("wenda-shared", os.MFD_CLOEXEC | os.MFD_ALLOW_SEALING)
        os.ftruncate(fd, size)
        fcntl.fcntl(fd, _F_ADD_SEALS, _F_SEAL_SHRINK)  # so that nothing here can pull memory from under the target
        self._memory = mmap.mmap(fd, size)
        self._memory_size = size
        return (fd,)


def _packed(kind: MessageKind, values: tuple[int, ...], files: int) -> bytes:
    return _LAYOUT.pack(kind, files, *values, *([0] * (MESSAGE_VALUES - len(values))))


def failure_text(message: Message) -> str:
    """What a target said that could not hand over what it was asked for (FAILED)."""
    reason = message.values[1]
    if message.values[2] == CONFINED:
        return "the program confines itself so that it cannot be watched from within; start it without its sandbox"
    if reason == errno.ECANCELED:
        return "the program ended the context of the frame, or its thread, before the frame was over; take another one"
    what = os.strerror(reason).lower() if 0 < reason < 4096 else "no memory"
    asked = "what lives in its memory" if message.values[2] == OBJECTS_FAILED else "a frame"
    return f"the program could not hand over {asked} ({what}); raise its limits of memory and of open files"


def same_user(connection: socket.socket) -> bool:
    """Whether the process at the other end belongs to this user, or to root."""
    credentials = connection.getsockopt(socket.SOL_SOCKET, socket.SO_PEERCRED, struct.calcsize("3i"))
    _, user, _ = struct.unpack("3i", credentials)
    return user in (0, os.geteuid())


def read_memory_file(fd: int, *sizes: int) -> list[memoryview]:
    """The parts of a memory file that the target sent, one after the other, bytes each. Read, not mapped: the target
    could cut it short meanwhile.

    Raises TargetError.
    """
    size = sum(sizes)
    if size > LARGEST_FILE:
        raise TargetError(f"the target sent {size >> 30} GiB at once; take a frame that uploads less")
    parts, at = [], 0
    try:
        while at < size:
            part = os.pread(fd, min(size - at, 1 << 30), at)
            if not part:
                raise TargetError("the target sent less than it says")
            parts.append(part)
            at += len(part)
    except OSError as error:
        raise TargetError(f"what the target sent cannot be read ({error.strerror})") from error
    whole = memoryview(parts[0] if len(parts) == 1 else b"".join(parts))
    ends = list(itertools.accumulate(sizes))
    return [whole[end - size : end] for size, end in zip(sizes, ends, strict=True)]
