"""Starts a program under the tap, follows its frames, and takes some of them."""

from __future__ import annotations

import contextlib
import dataclasses
import fcntl
import itertools
import os
import re
import select
import shutil
import signal
import socket
import subprocess
import tempfile
import threading
import time
from collections import deque
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path

from wendascope.errors import CancelledError, TargetError, WendascopeError
from wendascope.files import OwnFolder
from wendascope.frame.frame import Frame, FrameStatistics
from wendascope.registry import native_library, tables
from wendascope.tap.channel import PROTOCOL, Channel, FrameEnd, Message, MessageKind, failure_text, same_user
from wendascope.tap.take import Collect, take_frame
from wendascope.tap.why_nothing import SOCKET, guess_for, living, processes_of, reason_for
from wendascope.task import QUIET, Task
from wendascope.texts import plural

_KEPT_BEATS = 240
_LINES_SHOWN = 20
_OUTPUT_SECONDS = 0.05
_LARGEST_OUTPUT = 16 << 20
_LARGEST = (1 << 63) - 1
_MOST_STRANGERS = 32
_DAEMON_SECONDS = 3.0
"""How long what left the session of a program that ended is given to draw; it may be a service that never does."""
_LOOK_SECONDS, _CERTAIN_SECONDS = 1.0, 4.0
"""How often a program that shows nothing is looked at, and how long a reason must hold before it is told."""
_IDLE_SECONDS = 2.0
"""A program that has drawn nothing for so long draws only when something happens."""


@dataclass(frozen=True)
class Trigger:
    """When to take a frame. With nothing set: the next one."""

    frame: int = 0
    after_seconds: float = 0.0
    slower_than_ms: float = 0.0
    frame_end: FrameEnd = FrameEnd.swap
    later: int = 1
    """Where it is armed while a frame is taken, how many frames after that one."""


def program_title(command: Sequence[str]) -> str:
    """What to call a program: its name, or for an interpreter that of the script or module it runs."""
    name = Path(command[0]).stem if command else ""
    if re.fullmatch(r"(python|perl|ruby|node|lua|bash|sh|java|mono|wine)[0-9.]*", name):
        for before, word in itertools.pairwise(command):
            if before == "-m" or not word.startswith("-"):
                return Path(word).stem if "/" in word or word.endswith(".py") else word
    return name


def _statistics(values: Sequence[int]) -> FrameStatistics:
    switches = values[9]
    frame, cpu_ns, swap_ns, calls, draws, vertices, _, _, thread_ns, _, waited_ns = (
        min(v, _LARGEST) for v in values[:11]
    )
    return FrameStatistics(
        frame, cpu_ns, swap_ns, calls, draws, vertices, thread_ns, switches >> 32, switches & 0xFFFFFFFF, waited_ns
    )


class _Output:
    """What the target writes, passed on line by line and its end kept for error messages.

    It goes through a file, not a pipe: were we killed, a broken pipe would kill a program that writes.
    """

    def __init__(self, echo: Callable[[str], None] | None) -> None:
        self._echo = echo
        self.lines: deque[str] = deque(maxlen=400)
        self.count = 0
        """Lines written so far, of which the last are kept."""
        self._file = tempfile.TemporaryFile()  # noqa: SIM115 - lives as long as the target
        flags = fcntl.fcntl(self._file, fcntl.F_GETFL)
        fcntl.fcntl(self._file, fcntl.F_SETFL, flags | os.O_APPEND)
        self._at = 0
        self._rest = b""
        self._ending = threading.Event()
        self._thread = threading.Thread(target=self._follow, name="target output", daemon=True)

    def fileno(self) -> int:
        return self._file.fileno()

    def start(self) -> None:
        self._thread.start()

    def finish(self) -> None:
        """Read what is left."""
        self._ending.set()
        self._thread.join(1.0)

    def _follow(self) -> None:
        while not self._ending.wait(_OUTPUT_SECONDS):
            self._read()
        self._read()
        if self._rest:
            self._line(self._rest)
            self._rest = b""

    def _read(self) -> None:
        while data := os.pread(self._file.fileno(), 1 << 16, self._at):
            self._at += len(data)
            *lines, self._rest = (self._rest + data).split(b"\n")
            for raw in lines:
                self._line(raw)
        if self._at > _LARGEST_OUTPUT:
            os.ftruncate(self._file.fileno(), 0)  # the program appends, so its next line comes first
            self._at = 0

    def _line(self, raw: bytes) -> None:
        line = raw.decode("utf-8", "replace").rstrip("\r")
        self.lines.append(line)
        self.count += 1
        if self._echo:
            self._echo(line)

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
        frame_end: FrameEnd = FrameEnd.swap,
    ) -> None:
        """Start the program. Raises TargetError when it cannot be started."""
        if not command:
            raise TargetError("no program was given; write it after --")
        if folder is not None and not folder.is_dir():
            raise TargetError(f"{folder} is not a folder; choose where the program is to run")
        if (
            shutil.which(
                command[0] if folder is None or "/" not in command[0] else str(folder / command[0]),
                path=(environment or os.environ).get("PATH"),
            )
            is None
        ):
            raise TargetError(f"{command[0]} does not exist or is not a program; check the path after --")
        self._folder = OwnFolder()
        self._listener = socket.socket(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        path = str(self._folder.path / "tap")
        self._listener.bind(path)
        self._listener.listen(8)
        self.command = list(command)
        self.channel: Channel | None = None
        self.frame_statistics: deque[FrameStatistics] = deque(maxlen=_KEPT_BEATS)
        self.others = 0
        """Processes that the program started and that draw as well; they run on their own."""
        self.frame_end = frame_end
        self._armed = self._asked = Trigger(frame_end=frame_end)
        """What the tap was told, and what was asked for: of a series, frames are counted from the one before."""
        self._released = False
        self._last_frame = time.monotonic()
        self._waiting = False
        self._connected = False
        self._ended_at = 0.0
        self._strangers: list[Channel] = []
        """Connections that have not said yet what they are."""
        self._spare: list[Channel] = []
        self._drawing: set[int] = set()
        """Processes among the spare ones that were counted."""
        env = dict(environment if environment is not None else os.environ)
        before = env.get("LD_PRELOAD")
        env["LD_PRELOAD"] = f"{native_library()}{':' + before if before else ''}"
        # without a cache Mesa offers no program binaries, so that programs bring the sources that advice needs
        env.setdefault("MESA_SHADER_CACHE_DISABLE", "true")
        env[SOCKET] = self._socket = path
        self.output = _Output(echo)
        try:
            self.process = subprocess.Popen(
                list(command),
                cwd=folder,
                env=env,
                stdin=subprocess.DEVNULL,
                stdout=self.output.fileno(),
                stderr=subprocess.STDOUT,
            )
        except OSError as error:
            self._clean()
            raise TargetError(f"{command[0]} could not be started: {error.strerror}") from error
        self.output.start()

    def __enter__(self) -> Target:
        return self

    def __exit__(self, *_: object) -> None:
        self.stop()

    def stop(self) -> None:
        """End the program, unless it was let go: politely, then by force."""
        if self._released:
            return
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
        self._end_others()
        self.output.finish()
        self._clean()

    def _end_others(self) -> None:
        """What a launcher left behind under the tap ends with it."""
        deadline = time.monotonic() + 3
        for number in (signal.SIGTERM, signal.SIGKILL):
            for pid in living(self._socket):
                with contextlib.suppress(OSError):
                    os.kill(pid, number)
            while living(self._socket) and number == signal.SIGTERM and time.monotonic() < deadline:
                time.sleep(0.05)

    def let_go(self) -> None:
        """End the conversation and leave the program running."""
        self._released = True
        if self.channel:
            self.channel.close()
            self.channel = None
        self._clean()

    def _clean(self) -> None:
        for other in (*self._spare, *self._strangers):
            other.close()
        self._spare.clear()
        self._strangers.clear()
        self._listener.close()
        self._folder.close()

    # ---- waiting for the target ------------------------------------------------------------------

    def _failure(self, what: str) -> TargetError:
        if self.process.poll() is not None and not self._goes_on():
            self.output.finish()
        return TargetError(what, self.output.tail)

    def _check_alive(self) -> None:
        code = self.process.poll()
        if code is None or self._goes_on():
            self._ended_at = 0.0
            return
        self._ended_at = self._ended_at or time.monotonic()
        if time.monotonic() - self._ended_at < _DAEMON_SECONDS and living(self._socket, anywhere=True):
            return
        ended = f"ended with exit code {code}" if code >= 0 else f"was ended by signal {-code}"
        if not self._connected:
            raise self._failure(f"{self.command[0]} {ended} before it drew anything with OpenGL")
        raise self._failure(
            f"{self.command[0]} {ended} before the frame was taken" if self._waiting else f"{self.command[0]} {ended}"
        )

    def _goes_on(self) -> bool:
        """Whether what a launcher started goes on without it."""
        if self.channel is not None and self.channel.process != self.process.pid:
            with contextlib.suppress(OSError):
                os.kill(self.channel.process, 0)
                return True
        return bool(living(self._socket))

    def poll(self, timeout: float) -> Message | None:
        """The next message of the target, if one comes in time; frame statistics are also kept.

        Follows the program when it replaces itself or a child of it turns out to be what draws. Raises TargetError
        when it has ended.
        """
        sources: list[socket.socket | Channel] = [self._listener, *self._strangers, *self._spare]
        if self.channel is not None:
            sources.append(self.channel)
            with contextlib.suppress(TargetError):  # that it is gone, reading tells
                self.channel.flush()
        readable, _, _ = select.select(sources, [], [], timeout)
        if self._listener in readable:
            self._accept()
        for stranger in [s for s in self._strangers if s in readable]:
            self._greet(stranger)
        for spare in [s for s in self._spare if s in readable]:
            self._hear_spare(spare)
        if self.channel is not None and self.channel in readable:
            try:
                message = self.channel.receive(0.0)
            except TargetError:
                self._lost()
                return None
            if message is not None and message.kind == MessageKind.STATISTICS:
                self.frame_statistics.append(_statistics(message.values))
                self._last_frame = time.monotonic()
            if message is not None and message.kind in (MessageKind.RECORDED, MessageKind.CONTEXT):
                message.close()  # the frame after a captured one came too late to be waited for
                self.resume()
                return None
            return message
        if not readable:
            self._check_alive()
        return None

    def _accept(self) -> None:
        with contextlib.suppress(OSError):  # gone already, or no room for one more
            connection, _ = self._listener.accept()
            if not same_user(connection) or len(self._strangers) >= _MOST_STRANGERS:
                connection.close()
            else:
                self._strangers.append(Channel(connection))

    def _greet(self, channel: Channel) -> None:
        """A process of the program says what it is. Raises TargetError for another protocol."""
        self._strangers.remove(channel)
        try:
            hello = channel.expect(MessageKind.HELLO, 0.0)
        except TargetError:
            channel.close()
            return  # a child that left at once
        if hello.values[0] != PROTOCOL or hello.values[2] != len(tables().commands):
            channel.close()
            raise TargetError(
                f"the tap in the target speaks protocol {hello.values[0]} with {hello.values[2]} commands, this"
                f" Wendascope protocol {PROTOCOL} with {len(tables().commands)}; run `make setup` again"
            )
        channel.process = hello.values[1]
        if self.channel is not None and self.frame_statistics:
            self.others += 1  # what we follow draws already
            channel.close()
        elif self.channel is not None and self.channel.process == self.process.pid:
            channel.arm(0, 0, self._armed.frame_end)
            self._spare.append(channel)  # until one of the two draws
        else:
            if self.channel is not None:
                self._spare.append(self.channel)
            self._follow(channel)

    def _follow(self, channel: Channel) -> None:
        self.channel, self._connected = channel, True
        if self._waiting:
            self.arm(self._armed)
        else:
            self.disarm()

    def _hear_spare(self, spare: Channel) -> None:
        """A process that made a context beside the one we follow: whichever draws first is followed."""
        try:
            message = spare.receive(0.0)
        except TargetError:
            self._spare.remove(spare)
            spare.close()
            return
        if message is not None and message.kind == MessageKind.STATISTICS and self.frame_statistics:
            if spare.process not in self._drawing:
                self._drawing.add(spare.process)
                self.others += 1  # what we follow draws already
        elif message is not None and message.kind == MessageKind.STATISTICS:
            self._spare.remove(spare)
            if self.channel is not None:
                self._spare.append(self.channel)
            self._follow(spare)

    def _lost(self) -> None:
        """The conversation ended: with the program, or because it became another one that may connect anew."""
        if self.channel is not None:
            self.channel.close()
        self.frame_statistics.clear()
        with contextlib.suppress(subprocess.TimeoutExpired):
            self.process.wait(0.5)
        self.channel = None
        self._check_alive()
        if self._spare:
            self._follow(self._spare.pop(0))

    # ---- holding ---------------------------------------------------------------------------------

    def arm(self, trigger: Trigger) -> None:
        """Tell the tap when to hold the target. A trigger with a delay only sets what ends a frame."""
        self._armed, self._waiting = trigger, True
        self._asked = trigger
        if self.channel is not None:
            frame = 0 if trigger.after_seconds > 0 else max(1, trigger.frame)
            self.channel.arm(frame, int(trigger.slower_than_ms * 1e6), trigger.frame_end)

    def connect(self, trigger: Trigger, timeout: float) -> None:
        """Wait until the program has made a context. Raises TargetError when it ends or does not."""
        self.arm(trigger)
        started, certain_since = time.monotonic(), 0.0
        looked_at = started
        while self.channel is None:
            self.poll(0.05)
            now = time.monotonic()
            if now - looked_at < _LOOK_SECONDS and now - started < timeout:
                continue
            looked_at = now
            processes = processes_of(self._socket, self.process.pid)
            reason = reason_for(processes)
            certain_since = (certain_since or now) if reason else 0.0
            if now - started >= timeout or (reason and now - certain_since >= _CERTAIN_SECONDS):
                raise self._failure(
                    f"{self.command[0]} made no OpenGL context within {now - started:.0f} s:"
                    f" {reason or guess_for(processes)}"
                )

    def disarm(self) -> None:
        """Have the target run on without being held."""
        self._waiting = False
        if self.channel is not None:
            self.channel.arm(0, 0, self._armed.frame_end)

    def resume(self) -> None:
        """Let a held target go on."""
        if self.channel is not None:
            self.channel.send(MessageKind.RESUME)

    def go_on(self) -> None:
        """After a take that failed, whatever state that left the program in: it runs on, and can be asked again.
        Raises TargetError when it has ended.
        """
        try:
            self.disarm()
            self.resume()
        except TargetError:
            self._lost()

    def take(
        self,
        paused: Message,
        collect: Collect = Collect(),
        task: Task = QUIET,
        then: Trigger | None = None,
    ) -> Frame:
        """Take the frame that follows the frame end at which the target is held; `then` is armed before it goes on.

        Raises TargetError.
        """
        channel = self.channel
        assert channel is not None

        def before_resume() -> None:
            if then is not None:
                frame = paused.values[0] + then.later if then.later > 1 else then.frame
                self.arm(dataclasses.replace(then, frame=frame))
                self._asked = then
            else:
                self._waiting = False

        try:
            collect = dataclasses.replace(
                collect, following=collect.following and then is None
            )  # a series holds what follows anyway
            return take_frame(
                channel,
                paused,
                self._armed.frame_end,
                self.command,
                list(self.frame_statistics)[-60:],
                collect,
                task,
                before_resume,
            )
        except TargetError as error:
            with contextlib.suppress(subprocess.TimeoutExpired):
                self.process.wait(0.5)
            raise self._failure(str(error)) from error
        except WendascopeError as error:
            raise self._failure(f"the target sent what cannot be a frame: {error}") from error
        except Exception as error:  # whatever a target of ill will can say: it speaks a language of numbers
            raise self._failure(f"the target sent what cannot be a frame ({type(error).__name__}: {error})") from error

    # ---- one frame, start to end -----------------------------------------------------------------

    def capture(
        self,
        trigger: Trigger,
        timeout: float = 60.0,
        task: Task = QUIET,
        then: Trigger | None = None,
        collect: Collect = Collect(),
    ) -> Frame:
        """Take one frame. Raises TargetError, CancelledError.

        `then` is armed before the target goes on, so that the frame it names is not missed; the next call
        must be given the same trigger.
        """
        if self.channel is None:
            self.connect(trigger, timeout)
        elif trigger is not self._asked:
            self.arm(trigger)
        paused = self._wait_paused(trigger, timeout, task)
        return self.take(paused, collect, task, then)

    def _wait_paused(self, trigger: Trigger, timeout: float, task: Task) -> Message:
        started = time.monotonic()
        delayed = trigger.after_seconds > 0
        seen = 0
        while True:
            message = self.poll(0.05)
            now = time.monotonic()
            if task.cancelled:
                raise CancelledError("the capture was cancelled")
            waited = now - started
            if delayed and waited >= trigger.after_seconds:
                self.arm(Trigger(0, 0.0, trigger.slower_than_ms, trigger.frame_end))
                delayed = False
            if message is not None and message.kind == MessageKind.PAUSED:
                return message
            if message is not None and message.kind == MessageKind.FAILED:
                raise self._failure(failure_text(message))
            if message is not None and message.kind == MessageKind.STATISTICS:
                seen = message.values[0]
                task.tell(f"frame {seen}", min(seen / trigger.frame, 1.0) if trigger.frame else 0.0)
            if waited > timeout + trigger.after_seconds:
                raise self._failure(self._never(trigger, seen, waited))

    def _never(self, trigger: Trigger, seen: int, waited: float) -> str:
        if seen == 0:
            return (
                f"{self.command[0]} finished no frame within {waited:.0f} s; "
                "if it never swaps buffers, say what ends a frame with --frame-end readback or marker"
            )
        if trigger.slower_than_ms:
            return (
                f"no frame of {self.command[0]} was slower than {trigger.slower_than_ms:g} ms within {waited:.0f} s"
                f" ({seen} frames)"
            )
        idle = time.monotonic() - self._last_frame
        if idle > _IDLE_SECONDS:
            return (
                f"{self.command[0]} has drawn {plural(seen, 'frame')}, the last {idle:.0f} s ago: it draws only when"
                " something happens. Leave out --frame to take the next one that it draws, and make it draw meanwhile"
            )
        return f"{self.command[0]} had drawn {seen} frames after {waited:.0f} s and did not reach the one asked for"
