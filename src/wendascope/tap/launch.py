"""Starts a program under the tap and takes frames of it."""

from __future__ import annotations

import contextlib
import datetime
import os
import select
import shutil
import socket
import subprocess
import tempfile
import threading
import time
from collections import deque
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

import wendascope
from wendascope.errors import CancelledError, TargetError, WendascopeError
from wendascope.frame.caveats import frame_caveats
from wendascope.frame.frame import Frame, Heartbeat, Metadata, Picture
from wendascope.frame.journal import Journal
from wendascope.frame.kept import Kept
from wendascope.frame.mappings import settle_writes
from wendascope.frame.offers import Offers
from wendascope.frame.packed import Batch, CallStream, Executor
from wendascope.frame.passes import framebuffer_size
from wendascope.frame.prune import drop_unseen_contents
from wendascope.frame.state_table import PIXEL_STORE
from wendascope.registry import GL, native_library
from wendascope.tap.channel import PROTOCOL, Boundary, Channel, Kind, Message, read_memory_file
from wendascope.tap.snapshot import Snapshot, take_snapshot

CLASSES = (
    "buffer", "texture", "sampler", "renderbuffer", "program", "shader", "framebuffer", "vertex array",
    "program pipeline", "transform feedback", "query",
)  # fmt: skip
"""Object classes in the order of the tap's name table."""
_SHARED = 6
_KEPT_BEATS = 240
_LINES_SHOWN = 20
Progress = Callable[[str, float], None]
"""Called with what is being done and how far it is, 0 to 1."""


@dataclass(frozen=True)
class Trigger:
    """When to take a frame. With nothing set: the next one."""

    frame: int = 0
    after_seconds: float = 0.0
    slower_than_ms: float = 0.0
    boundary: Boundary = Boundary.swap


@dataclass
class _Output:
    """What the target writes, passed on line by line and its end kept for error messages."""

    echo: Callable[[str], None] | None
    lines: deque[str] = field(default_factory=lambda: deque(maxlen=400))

    def follow(self, stream: object) -> threading.Thread:
        def read() -> None:
            for raw in stream:  # type: ignore[attr-defined]
                line = raw.decode("utf-8", "replace").rstrip("\n")
                self.lines.append(line)
                if self.echo:
                    self.echo(line)

        thread = threading.Thread(target=read, name="target output", daemon=True)
        thread.start()
        return thread

    @property
    def tail(self) -> str:
        return "\n".join(list(self.lines)[-_LINES_SHOWN:])


class Target:
    """A running program under the tap.

    Use as a context manager; on leaving, the program is stopped unless it was let go.
    """

    def __init__(
        self,
        command: Sequence[str],
        folder: Path | None = None,
        environment: dict[str, str] | None = None,
        echo: Callable[[str], None] | None = None,
    ) -> None:
        """Start the program. Raises TargetError when it cannot be started."""
        if not command:
            raise TargetError("no program was given; write it after --")
        if shutil.which(command[0], path=(environment or os.environ).get("PATH")) is None:
            raise TargetError(f"{command[0]} does not exist or is not a program; check the path after --")
        runtime = os.environ.get("XDG_RUNTIME_DIR", "")
        inside = runtime if runtime and Path(runtime).is_dir() and os.access(runtime, os.W_OK) else None
        self._folder = tempfile.mkdtemp(prefix="wendascope-", dir=inside)  # mode 0700: for this user only
        self._listener = socket.socket(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        path = str(Path(self._folder, "tap"))
        self._listener.bind(path)
        self._listener.listen(8)
        self.command = list(command)
        self.channel: Channel | None = None
        self.heartbeats: deque[Heartbeat] = deque(maxlen=_KEPT_BEATS)
        self._armed: Trigger | None = None
        env = dict(environment if environment is not None else os.environ)
        before = env.get("LD_PRELOAD")
        env["LD_PRELOAD"] = f"{native_library()}{':' + before if before else ''}"
        env["WENDASCOPE_SOCKET"] = path
        self.output = _Output(echo)
        try:
            self.process = subprocess.Popen(
                list(command), cwd=folder, env=env, stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=subprocess.STDOUT
            )
        except OSError as error:
            self._clean()
            raise TargetError(f"{command[0]} could not be started: {error.strerror}") from error
        self._reader = self.output.follow(self.process.stdout)

    def __enter__(self) -> Target:
        return self

    def __exit__(self, *_: object) -> None:
        self.stop()

    def stop(self) -> None:
        """End the program: politely, then by force."""
        if self.channel:
            self.channel.close()
            self.channel = None
        if self.process.poll() is None:
            self.process.terminate()
            try:
                self.process.wait(3)
            except subprocess.TimeoutExpired:
                self.process.kill()
                self.process.wait()
        self._clean()

    def let_go(self) -> None:
        """End the conversation and leave the program running."""
        if self.channel:
            self.channel.close()
            self.channel = None
        self._clean()

    def _clean(self) -> None:
        self._listener.close()
        shutil.rmtree(self._folder, ignore_errors=True)

    # ---- waiting for the target ------------------------------------------------------------------

    def _failure(self, what: str) -> TargetError:
        self._reader.join(0.5)
        return TargetError(what, self.output.tail)

    def _check_alive(self) -> None:
        code = self.process.poll()
        if code is None:
            return
        ended = f"ended with exit code {code}" if code >= 0 else f"was ended by signal {-code}"
        if self.channel is None:
            raise self._failure(f"{self.command[0]} {ended} before it drew anything with OpenGL")
        raise self._failure(f"{self.command[0]} {ended} before the frame was taken")

    def connect(self, trigger: Trigger, timeout: float, cancelled: Callable[[], bool] = lambda: False) -> None:
        """Wait for the program's first frame. Raises TargetError when it ends or never draws."""
        deadline = time.monotonic() + timeout
        while self.channel is None:
            readable, _, _ = select.select([self._listener], [], [], 0.05)
            if readable:
                connection, _ = self._listener.accept()
                self.channel = Channel(connection)
                try:
                    hello = self.channel.expect(Kind.HELLO, 2.0)
                except TargetError:
                    self.channel = None  # a child that left at once
                    continue
                if hello.values[0] != PROTOCOL:
                    raise TargetError("the tap in the target is of another version; run `make setup` again")
                self.channel.process = hello.values[1]
                self.arm(trigger)
                return
            if cancelled():
                raise CancelledError("the capture was cancelled")
            self._check_alive()
            if time.monotonic() > deadline:
                raise self._failure(
                    f"{self.command[0]} made no OpenGL context within {timeout:g} s; "
                    "it may draw with something else, or need a display (DISPLAY)"
                )

    def arm(self, trigger: Trigger) -> None:
        """Tell the tap when to hold the target. A trigger with a delay only sets what ends a frame."""
        assert self.channel is not None
        frame = 0 if trigger.after_seconds > 0 else max(1, trigger.frame)
        self.channel.send(Kind.ARM, frame, int(trigger.slower_than_ms * 1e6), int(trigger.boundary))
        self._armed = trigger

    def _wait_paused(self, trigger: Trigger, timeout: float, progress: Progress, cancelled: Callable[[], bool]) -> Message:
        assert self.channel is not None
        started = time.monotonic()
        armed = trigger.after_seconds <= 0
        seen = 0
        while True:
            waited = time.monotonic() - started
            if not armed and waited >= trigger.after_seconds:
                self.arm(Trigger(0, 0.0, trigger.slower_than_ms, trigger.boundary))
                armed = True
            try:
                message = self.channel.receive(0.05)
            except TargetError as error:
                with contextlib.suppress(subprocess.TimeoutExpired):
                    self.process.wait(2)
                self._check_alive()
                raise self._failure(str(error)) from error
            if message is None:
                if cancelled():
                    raise CancelledError("the capture was cancelled")
                self._check_alive()
                if waited > timeout + trigger.after_seconds:
                    raise self._failure(self._never(trigger, seen, waited))
            elif message.kind == Kind.HEARTBEAT:
                seen = message.values[0]
                self.heartbeats.append(Heartbeat(*message.values[:6]))
                if waited > timeout + trigger.after_seconds:
                    raise self._failure(self._never(trigger, seen, waited))
                progress(f"frame {seen}", min(seen / trigger.frame, 1.0) if trigger.frame else 0.0)
            elif message.kind == Kind.PAUSED:
                return message

    def _never(self, trigger: Trigger, seen: int, waited: float) -> str:
        if seen == 0:
            return (
                f"{self.command[0]} finished no frame within {waited:.0f} s; "
                "if it never swaps buffers, say what ends a frame with --boundary readback or marker"
            )
        if trigger.slower_than_ms:
            return f"no frame of {self.command[0]} was slower than {trigger.slower_than_ms:g} ms within {waited:.0f} s ({seen} frames)"
        return f"{self.command[0]} had drawn {seen} frames after {waited:.0f} s and did not reach the one asked for"

    # ---- taking a frame ---------------------------------------------------------------------------

    def capture(
        self,
        trigger: Trigger,
        timeout: float = 60.0,
        progress: Progress = lambda _what, _part: None,
        cancelled: Callable[[], bool] = lambda: False,
        then: Trigger | None = None,
    ) -> Frame:
        """Take one frame. Raises TargetError, CancelledError.

        `then` is armed before the target goes on, so that the frame it names is not missed; the next call
        must be given the same trigger.
        """
        if self.channel is None:
            self.connect(trigger, timeout, cancelled)
        elif trigger is not self._armed:
            self.arm(trigger)
        assert self.channel is not None
        paused = self._wait_paused(trigger, timeout, progress, cancelled)
        beats = list(self.heartbeats)[-60:]
        held = time.monotonic()
        try:
            progress("reading objects", 0.0)
            snapshot = self._snapshot(paused)
            snapshot_seconds = time.monotonic() - held
            progress("recording", 0.5)
            self.channel.send(Kind.RECORD)
            frame = self._recorded(snapshot, trigger, beats, then)
        except WendascopeError as error:
            if isinstance(error, TargetError):
                with contextlib.suppress(subprocess.TimeoutExpired):
                    self.process.wait(0.5)
                raise self._failure(str(error)) from error
            raise
        frame.metadata.held_seconds = snapshot_seconds
        frame.metadata.capture_seconds = time.monotonic() - held
        frame.metadata.frame_number = paused.values[0]
        return frame

    def _snapshot(self, paused: Message) -> Snapshot:
        assert self.channel is not None
        _, context, group, width, height, platform, _, journal_words, journal_bytes, names_bytes, kept_bytes = paused.values[:11]
        try:
            journal = _stream(paused.fds[0], journal_words, paused.fds[1], journal_bytes)
            names = _names(read_memory_file(paused.fds[2], names_bytes), context, group)
            kept = Kept.parse(read_memory_file(paused.fds[3], kept_bytes))
        finally:
            paused.close()
        snapshot = take_snapshot(self.channel, names, Journal(journal, group), kept, (width, height))
        snapshot.context.platform = ("none", "GLX", "EGL")[platform]
        return snapshot

    def _recorded(self, snapshot: Snapshot, trigger: Trigger, beats: list[Heartbeat], then: Trigger | None) -> Frame:
        assert self.channel is not None
        message = self.channel.expect(Kind.RECORDED, 120.0)
        try:
            words, arena_bytes, failed, elsewhere = message.values[7:11]
            if failed:
                raise TargetError("memory ran out while the frame was recorded")
            calls = settle_writes(_stream(message.fds[0], words, message.fds[1], arena_bytes))
        finally:
            message.close()
        if len(calls) == 0:
            raise TargetError("the frame contains no OpenGL calls; the program may draw from another thread")
        reference, framebuffer = self._reference(snapshot, trigger.boundary)
        if then is not None:
            self.arm(then)
        self.channel.send(Kind.RESUME)
        now = datetime.datetime.now(datetime.UTC).isoformat(timespec="seconds")
        metadata = Metadata(
            program=self.command[0],
            arguments=self.command[1:],
            captured_at=now,
            boundary=trigger.boundary.name,
            wendascope=wendascope.__version__,
            recorded_ns=int(calls.end_ns[-1] - calls.begin_ns[0]),
        )
        frame = Frame(
            metadata, snapshot.context, snapshot.default_framebuffer, snapshot.state, snapshot.objects, snapshot.blobs, calls,
            snapshot.setup, snapshot.lists, beats, snapshot.caveats, reference, framebuffer,
        )  # fmt: skip
        metadata.left_out = drop_unseen_contents(frame)
        frame.caveats += frame_caveats(frame)
        if elsewhere:
            frame.caveats.append(f"{elsewhere} calls of other contexts that share its objects, made during the frame, were not recorded")
        return frame

    def _reference(self, snapshot: Snapshot, boundary: Boundary) -> tuple[Picture | None, int]:
        """Read the finished picture: the back buffer before the swap, or what a readback would read."""
        assert self.channel is not None
        return read_reference(self.channel, snapshot, boundary)


def read_reference(executor: Executor, snapshot: Snapshot, boundary: Boundary) -> tuple[Picture | None, int]:
    """The finished picture and the framebuffer it is in. Leaves the target's state as it was."""
    offers = Offers(snapshot.context)
    target = GL.READ_FRAMEBUFFER if offers.value(GL.READ_FRAMEBUFFER) else GL.FRAMEBUFFER
    bindings = {"framebuffer": GL.READ_FRAMEBUFFER_BINDING if target == GL.READ_FRAMEBUFFER else GL.FRAMEBUFFER_BINDING}
    if offers.value(GL.PIXEL_PACK_BUFFER):
        bindings["pack"] = GL.PIXEL_PACK_BUFFER_BINDING
    store = [name for name in PIXEL_STORE if name.startswith("PACK") and offers("GL_" + name)]
    batch = Batch(offers)
    outs = {name: batch.out(4) for name in (*bindings, *store)}
    for name, out in outs.items():
        batch.call("glGetIntegerv", bindings.get(name) or getattr(GL, name), out)
    executor.run(batch)
    value = {name: out.ints()[0] for name, out in outs.items()}
    bound = value["framebuffer"]
    batch = Batch(offers)
    window_buffer = batch.out(4)
    batch.call("glBindFramebuffer", target, 0)
    if offers.value(GL.READ_BUFFER):
        batch.call("glGetIntegerv", GL.READ_BUFFER, window_buffer)
    batch.call("glBindFramebuffer", target, bound)
    executor.run(batch)
    framebuffer = 0 if boundary == Boundary.swap else bound
    default = snapshot.default_framebuffer
    width, height = default.width, default.height
    if framebuffer:
        record = snapshot.objects.framebuffer(framebuffer)
        width, height = framebuffer_size(record, snapshot.objects) if record else (0, 0)
    batch = Batch(offers)
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


def _stream(calls_fd: int, words: int, arena_fd: int, arena_bytes: int) -> CallStream:
    """Packed calls from the tap's memory files; `words` is in bytes, as the tap counts."""
    calls = np.frombuffer(read_memory_file(calls_fd, words), np.uint64)
    arena = np.frombuffer(read_memory_file(arena_fd, arena_bytes), np.uint8)
    return CallStream.parse(calls, arena)


def _names(data: bytes, context: int, group: int) -> dict[str, list[int]]:
    """Live names by class, of the captured context and its share group."""
    rows = np.frombuffer(data, np.uint32).reshape(-1, 3)
    found: dict[str, list[int]] = {}
    for number, class_name in enumerate(CLASSES):
        owner = group if number < _SHARED else context
        mine = rows[(rows[:, 0] == number) & (rows[:, 1] == owner)]
        found[class_name] = mine[:, 2].tolist()
    return found
