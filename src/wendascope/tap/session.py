"""A capture session: one program under the tap, driven from outside, as many frames taken as are wanted.

Runs in a process of its own (`wendascope capture --listen NAME`); the window and `wendascope trigger` speak to it.
"""

from __future__ import annotations

import contextlib
import datetime
import select
import socket
import time
from collections.abc import Callable
from pathlib import Path

from wendascope.errors import TargetError, WendascopeError
from wendascope.frame.file import SequenceWriter
from wendascope.frame.frame import Frame
from wendascope.frame.memory_mark import SUFFIX, MemoryMark, save_mark
from wendascope.frame.places import frame_path
from wendascope.tap.channel import (
    OBJECTS_FAILED,
    PATIENCE_SECONDS,
    Message,
    MessageKind,
    failure_text,
    read_memory_file,
    same_user,
)
from wendascope.tap.launch import Target, Trigger, program_title
from wendascope.tap.memory_table import marked_objects
from wendascope.tap.messages import (
    Beat,
    Beats,
    Ended,
    Event,
    Hello,
    Lines,
    Marked,
    Output,
    Problem,
    Request,
    State,
    StateIs,
    Take,
    Taken,
    pack,
    request,
)
from wendascope.tap.sessions import socket_path
from wendascope.tap.take import Collect
from wendascope.task import Task
from wendascope.texts import readable

_PUBLISH_SECONDS = 0.1
_MOST_CLIENTS = 64
_MOST_WAITING = 4 << 20
"""A client that reads nothing is dropped when this much waits for it."""
_MOST_MARKS = 16
"""Marks that may be under way at once: each is the work of a frame for the program."""
_FAREWELL_SECONDS = 1.0
"""How long all clients together may take to read the last of what was said."""


class _Client:
    def __init__(self, connection: socket.socket) -> None:
        connection.setblocking(False)
        self.socket = connection
        self.lines = Lines()
        self.waiting = b""

    def send(self, data: bytes) -> bool:
        """Whether the client is still there."""
        self.waiting += data
        try:
            self.waiting = self.waiting[self.socket.send(self.waiting) :]
        except BlockingIOError:
            pass
        except OSError:
            return False
        return len(self.waiting) < _MOST_WAITING


class CaptureSession:
    """Serves requests until the program ends or the capture session is left."""

    def __init__(
        self,
        name: str,
        server: socket.socket,
        target: Target,
        folder: Path,
        told: Callable[[Event], None] = lambda _event: None,
    ) -> None:
        self._name = name
        self._server = server
        self._target = target
        self._folder = folder
        self._told = told
        self._clients: list[_Client] = []
        self._state: State = "starting"
        self._text = ""
        self._taken: list[Taken] = []
        self._paused: Message | None = None
        self._hold = False
        self._stayed = 0.0
        self._wanted: Take | None = None
        self._since = 0.0
        self._left = 0
        self._sequence: list[Taken] = []
        """Frames taken of those that go into one file."""
        self._writer: SequenceWriter | None = None
        self._place = Path()
        self._beats: list[Beat] = []
        self._marked: list[Marked] = []
        self._marks_asked = 0
        """Marks that are under way."""
        self._frames = 0
        self._published = 0.0
        self._lines_told = 0
        self._done = False
        self._ending = ""
        self._asked = False

    @property
    def drew(self) -> bool:
        """Whether the program ever finished a frame, or was ended because that was asked for."""
        return self._frames > 0 or self._asked

    # ---- the loop --------------------------------------------------------------------------------

    def run(self) -> str:
        """Serve until the end; returns what ended it, in words."""
        text = ""
        try:
            while not self._done:
                self._listen()
                if self._done:
                    break
                self._follow()
                self._countdown()
                self._stay()
                self._publish()
        except TargetError as error:
            text = str(error)
            self._publish(force=True)
        finally:
            text = text or self._ending
            # nobody can come any more: the name is free for the next session as soon as this one is said to be over
            self._keep_sequence()  # the program may have ended in the middle of one
            self._server.close()
            socket_path(self._name).unlink(missing_ok=True)
            self._say_state("ended", text)
            self._tell(Ended(text, self._asked, list(self._target.output.lines)[-60:]))
            self._close()
        return text

    def _listen(self) -> None:
        sources = [self._server, *(c.socket for c in self._clients)]
        readable, _, _ = select.select(sources, [], [], 0.0)
        if self._server in readable:
            self._welcome()
        for client in [c for c in self._clients if c.socket in readable]:
            self._hear(client)

    def _welcome(self) -> None:
        try:
            connection, _ = self._server.accept()
        except OSError:
            return  # gone already, or no room for one more
        client = _Client(connection)
        if not same_user(connection) or len(self._clients) >= _MOST_CLIENTS:
            client.send(pack(Problem(f"{_MOST_CLIENTS} clients speak to this capture session already; close some")))
            connection.close()
            return
        self._clients.append(client)
        hello = Hello(
            self._target.command, self._name, str(self._folder), self._state, self._target.process.pid, self._taken,
            list(self._target.output.lines), self._marked,
        )  # fmt: skip
        client.send(pack(hello))

    def _hear(self, client: _Client) -> None:
        try:
            data = client.socket.recv(1 << 16)
            lines = client.lines.feed(data)
        except (OSError, TargetError):
            data, lines = b"", []
        if not data:
            self._clients.remove(client)
            client.socket.close()
        for line in lines:
            try:
                self._answer(request(line))
            except TargetError as error:
                client.send(pack(Problem(str(error))))

    def _follow(self) -> None:
        before = self._target.channel
        message = self._target.poll(0.02)
        if self._target.channel is not before:
            self._marks_asked = 0  # whoever was asked is not there any more
        if message is None:
            return
        if self._state == "starting":
            self._say_state("waiting" if self._wanted else "running")
        if message.kind == MessageKind.STATISTICS:
            self._frames += 1
            self._beats.append(Beat(*message.values[:6], *message.values[11:15]))
        elif message.kind == MessageKind.MEMORY:
            self._marks_asked = max(0, self._marks_asked - 1)
            self._mark(message)
        elif message.kind == MessageKind.FAILED and message.values[2] == OBJECTS_FAILED:
            self._marks_asked = max(0, self._marks_asked - 1)
            self._tell(Problem(failure_text(message)))
        elif message.kind == MessageKind.FAILED:
            self._end_take(failure_text(message))
        elif message.kind == MessageKind.PAUSED:
            self._paused = message
            if self._wanted is not None:
                self._take_now()
            elif not self._hold:  # what it was to be held for was taken back meanwhile
                self._resume(then=None)
            else:
                self._say_state("held", f"before frame {message.values[0] + 1}")

    def _countdown(self) -> None:
        wanted = self._wanted
        if wanted is None or wanted.after_seconds <= 0 or self._since == 0.0:
            return
        rest = wanted.after_seconds - (time.monotonic() - self._since)
        if rest > 0:
            self._say_state("waiting", f"taking a frame in {rest:.1f} s", 1.0 - rest / wanted.after_seconds)
            return
        self._since = 0.0
        self._target.arm(Trigger(0, 0.0, wanted.slower_than_ms, self._target.frame_end))

    def _stay(self) -> None:
        """A program that is held is told now and then that somebody is there."""
        if self._paused is None or self._target.channel is None:
            return
        now = time.monotonic()
        if now - self._stayed > PATIENCE_SECONDS / 6:
            self._stayed = now
            self._target.channel.send(MessageKind.STAY)

    # ---- requests ----------------------------------------------------------------------------------

    def _answer(self, asked: Request) -> None:
        if isinstance(asked, Take):
            self._start_take(asked)
            return
        match asked.what:
            case "cancel":
                self._wanted, self._left = None, 0
                self._keep_sequence()
                if self._paused is None:
                    self._target.disarm()
                    self._say_state("running")
            case "hold" if self._paused is None:
                self._hold = True
                self._target.arm(Trigger(frame_end=self._target.frame_end))
                self._say_state("waiting", "holding at the end of this frame")
            case "step" if self._paused is not None:
                self._resume(then=Trigger(frame_end=self._target.frame_end))
            case "go" if self._paused is not None:
                self._hold = False
                self._resume(then=None)
                self._say_state("running")
            case "go" if self._hold:  # before it is held
                self._hold = False
                if self._wanted is None:
                    self._target.disarm()
                    self._say_state("running")
            case "mark":
                if self._target.channel is None:
                    raise TargetError("the program has not drawn anything yet; mark it when it draws")
                if self._marks_asked >= _MOST_MARKS:
                    raise TargetError(f"{_MOST_MARKS} memory marks are under way already; wait for them")
                if not self._target.channel.ask_for_objects():
                    raise TargetError("the program reads nothing now: mark it when it draws again")
                self._marks_asked += 1
            case "stop":
                self._asked = self._done = True
                self._ending = f"{program_title(self._target.command)} was ended"
                self._target.stop()
            case "leave":
                self._asked = self._done = True
                self._ending = f"{program_title(self._target.command)} keeps running, disconnected"
                self._target.let_go()

    def _start_take(self, asked: Take) -> None:
        if self._wanted is not None:
            raise TargetError("a frame is already being waited for; cancel that first")
        self._wanted, self._left = asked, asked.frames
        if self._paused is not None and not asked.after_seconds and not asked.slower_than_ms and not asked.frame:
            self._take_now()
            return
        trigger = Trigger(asked.frame, asked.after_seconds, asked.slower_than_ms, self._target.frame_end)
        self._since = time.monotonic() if asked.after_seconds else 0.0
        if self._paused is not None:
            self._resume(trigger)
        else:
            self._target.arm(trigger)
        self._say_state("waiting", self._waiting_for(asked))

    def _waiting_for(self, asked: Take) -> str:
        if asked.frame:
            return f"waiting for frame {asked.frame}"
        if asked.slower_than_ms:
            return f"waiting for a frame slower than {asked.slower_than_ms:g} ms"
        return "taking the next frame"

    def _resume(self, then: Trigger | None) -> None:
        if self._paused is not None:
            self._paused.close()
            self._paused = None
        if then is not None:
            self._target.arm(then)
        else:
            self._target.disarm()
        self._target.resume()

    # ---- taking --------------------------------------------------------------------------------------

    def _take_now(self) -> None:
        asked, paused = self._wanted, self._paused
        assert asked is not None and paused is not None
        self._paused = None
        self._left -= 1
        more = self._left > 0
        then = (
            Trigger(1, 0.0, asked.slower_than_ms if more else 0.0, self._target.frame_end, asked.every if more else 1)
            if more or self._hold
            else None
        )
        self._say_state("taking", "reading objects")
        self._publish(force=True)

        def progress(what: str, part: float) -> None:
            self._say_state("taking", what, part)

        try:
            frame = self._target.take(paused, Collect(asked.unused, asked.depth, asked.following), Task(progress), then)
        except TargetError as error:
            self._target.go_on()
            self._end_take(str(error))
            return
        try:
            self._add(frame)
        except WendascopeError as error:
            if then is not None:
                self._target.disarm()
            self._end_take(str(error))
            return
        del frame  # one at a time is in memory
        if then is None:
            self._target.disarm()
        if not more:
            self._wanted = None
            self._keep_sequence()
        self._say_state("waiting" if more or self._hold else "running")

    def _end_take(self, why: str) -> None:
        """A take failed: what was taken before it is kept, and the program runs on."""
        self._wanted, self._left, self._hold = None, 0, False
        self._keep_sequence()
        self._tell(Problem(why))
        self._say_state("running")

    def _add(self, frame: Frame) -> None:
        """Write a frame that was taken; the file is there when the last of them is. Raises FileError."""
        if self._writer is None:
            self._place = self._free_path()
            self._writer = SequenceWriter(self._place)
            self._writer.__enter__()
        self._writer.add(frame)
        self._sequence.append(
            Taken(
                "",
                frame.metadata.frame_number,
                frame.call_count,
                len(frame.steps),
                len(frame.passes),
                0,
                frame.metadata.held_seconds,
                frame.metadata.capture_seconds,
                frame.unused_bytes,
                frame.target_frame_ms,
                frame.caveats,
            )
        )

    def _keep_sequence(self) -> None:
        """Make a file of what was taken since the last time, and tell of each frame of it."""
        frames, self._sequence = self._sequence, []
        writer, self._writer = self._writer, None
        if writer is None:
            return
        try:
            writer.__exit__(None, None, None)
        except WendascopeError as error:
            self._tell(Problem(str(error)))
            return
        for number, taken in enumerate(frames, 1):
            taken.file = str(frame_path(self._place, number))
            taken.bytes = self._place.stat().st_size // len(frames)
            self._taken.append(taken)
            self._tell(taken)

    def _mark(self, message: Message) -> None:
        """Keep what lives in the target's memory as a file."""
        frame, at_ns, size = message.values[:3]
        number = len(self._marked) + 1
        try:
            objects = marked_objects(bytes(read_memory_file(message.fds[0], size)[0]))
            mark = MemoryMark(list(map(readable, self._target.command)), number, frame, at_ns, objects)
            path = self._free_path().with_suffix(f".mark-{number}{SUFFIX}")
            self._folder.mkdir(parents=True, exist_ok=True)
            save_mark(mark, path)
        except (WendascopeError, OSError) as error:
            self._tell(Problem(str(error)))
            return
        finally:
            message.close()
        self._marked.append(Marked(str(path), number, frame, mark.bytes, len(objects)))
        self._tell(self._marked[-1])

    def _free_path(self) -> Path:
        stem = program_title(self._target.command)
        day = datetime.datetime.now().strftime("%Y-%m-%d-%H%M%S")
        for number in range(1, 10000):
            path = self._folder / f"{stem}-{day}-{number:02d}.wend"
            if not path.exists():
                return path
        raise TargetError(f"{self._folder} has no free name left")

    # ---- telling ---------------------------------------------------------------------------------------

    def _say_state(self, state: State, text: str = "", part: float = 0.0) -> None:
        if (state, text) == (self._state, self._text) and state != "waiting":
            return
        self._state, self._text = state, text
        self._tell(StateIs(state, text, part))

    def _publish(self, force: bool = False) -> None:
        now = time.monotonic()
        if not force and now - self._published < _PUBLISH_SECONDS:
            return
        self._published = now
        if self._beats:
            self._tell(Beats(self._beats[-240:]))
            self._beats = []
        output = self._target.output
        if output.count > self._lines_told:
            fresh = list(output.lines)[-(output.count - self._lines_told) :]
            self._lines_told = output.count
            self._tell(Output(fresh))

    def _tell(self, event: Event) -> None:
        self._told(event)
        data = pack(event)
        for client in list(self._clients):
            if not client.send(data):
                self._clients.remove(client)
                client.socket.close()

    def _close(self) -> None:
        until = time.monotonic() + _FAREWELL_SECONDS
        for client in self._clients:
            with contextlib.suppress(OSError):
                client.socket.settimeout(max(0.001, until - time.monotonic()))
                client.socket.sendall(client.waiting)
            client.socket.close()
        self._clients.clear()
