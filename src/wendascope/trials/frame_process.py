"""Python work on a frame in a process of its own, so that whoever asks for it, as a window does, goes on meanwhile: two
threads of one interpreter wait for each other at every turn.

The process reads the frame itself. Functions, what they are given and what they return are pickled between two
processes of ours; a frame among it is named, not sent. Strangers' programs run elsewhere, in replay processes, which
pickle nothing.
"""

from __future__ import annotations

import contextlib
import io
import os
import pickle
import signal
import socket
import subprocess
import sys
import threading
import traceback
from collections.abc import Callable
from multiprocessing.connection import Connection
from pathlib import Path
from typing import Any, Concatenate, ParamSpec, TypeVar

from wendascope.analysis.guidelines import adopt, guidelines
from wendascope.errors import CancelledError, InternalError, WendascopeError
from wendascope.frame import file
from wendascope.frame.frame import Frame
from wendascope.frame.roles import take_roles
from wendascope.task import Task

P = ParamSpec("P")
R = TypeVar("R")
_PATIENCE = 10.0
"""Seconds that cancelled work may take to notice before its process is ended."""
_TOLD, _DONE, _FAILED = "told", "done", "failed"
_CANCEL = pickle.dumps((pickle.dumps("cancel"), []))
_TOO_LATE = "cancel"
"""What is read of it where the work was over by then."""


class FrameProcess:
    """A frame file in a process that computes. It starts when first needed, and again after it ended. One call at a
    time; others wait. Use as a context manager.
    """

    def __init__(self, path: Path, niceness: int = 0) -> None:
        """`niceness` is how much it stands back where processors are scarce, 0 to 19."""
        self._path, self._niceness = path, niceness
        self._process: subprocess.Popen[bytes] | None = None
        self._connection: Connection | None = None
        self._running = threading.Lock()

    def __enter__(self) -> FrameProcess:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def run(
        self,
        frame: Frame,
        task: Task,
        function: Callable[Concatenate[Task, P], R],
        *arguments: P.args,
        **named: P.kwargs,
    ) -> R:
        """Call a function that a module defines: its first argument is a task there, which tells what this one tells.

        `frame` is the frame of the file as it is known here; it stands for that process's own in what is sent and
        returned. Raises what the function raises, CancelledError, or InternalError where the process ended.
        """
        with self._running:
            task.check()
            connection = self._start()
            try:
                _send(connection, frame, (guidelines(), frame.pass_roles, function, arguments, named))
                found: R = self._wait(connection, frame, task)
            except (EOFError, OSError) as error:
                if self._connection is not connection:  # closed by whoever does not need it any more
                    raise CancelledError("cancelled") from error
                code = self._process.wait() if self._process else 0
                self.close()
                raise InternalError(
                    f"the process that works on the frame ended with {code}; it is started again when it is needed"
                ) from error
            return found

    def close(self) -> None:
        """End the process, whatever it does."""
        connection, self._connection = self._connection, None
        process, self._process = self._process, None
        if connection is not None:
            connection.close()
        if process is not None:
            process.terminate()
            try:
                process.wait(2)
            except subprocess.TimeoutExpired:
                process.kill()
                process.wait()

    def _start(self) -> Connection:
        if self._connection is None:
            ours, theirs = socket.socketpair()
            command = [sys.executable, "-P", "-m", "wendascope.trials.frame_process", str(self._path)]
            self._process = subprocess.Popen(
                [*command, str(theirs.fileno()), str(self._niceness)],
                pass_fds=(theirs.fileno(),),
                stdin=subprocess.DEVNULL,
            )
            theirs.close()
            self._connection = Connection(ours.detach())
        return self._connection

    def _wait(self, connection: Connection, frame: Frame, task: Task) -> Any:
        waited, asked = 0.0, False
        while True:
            if task.cancelled and not asked:
                connection.send_bytes(_CANCEL)
                asked = True
            if not connection.poll(0.05):
                waited += 0.05 if asked else 0.0
                if waited > _PATIENCE:
                    self.close()
                    raise CancelledError("cancelled")
                continue
            what, told = _receive(connection, frame)
            if what == _DONE:
                return told
            if what == _FAILED:
                error, trace = told
                error.__cause__ = RuntimeError(trace) if trace else None
                raise error
            task.tell(*told)


class _Pickler(pickle.Pickler):
    """Names the frame instead of sending it."""

    def __init__(self, to: io.BytesIO, frame: Frame, buffers: list[pickle.PickleBuffer]) -> None:
        super().__init__(to, 5, buffer_callback=buffers.append)
        self._frame = frame

    def persistent_id(self, item: Any) -> str | None:
        return "frame" if item is self._frame else None


class _Unpickler(pickle.Unpickler):
    def __init__(self, data: bytes, frame: Frame, buffers: list[bytearray]) -> None:
        super().__init__(io.BytesIO(data), buffers=buffers)
        self._frame = frame

    def persistent_load(self, _name: Any) -> Frame:
        return self._frame


def _send(connection: Connection, frame: Frame, item: Any) -> None:
    """Arrays go by themselves: as parts of one text they would be copied at the other end, which stops everybody."""
    text, buffers = io.BytesIO(), list[pickle.PickleBuffer]()
    _Pickler(text, frame, buffers).dump(item)
    raw = [buffer.raw() for buffer in buffers]
    connection.send_bytes(pickle.dumps((text.getvalue(), [len(part) for part in raw])))
    for part in raw:
        connection.send_bytes(part)


def _receive(connection: Connection, frame: Frame) -> Any:
    text, sizes = pickle.loads(connection.recv_bytes())
    buffers = [bytearray(size) for size in sizes]
    for buffer in buffers:
        connection.recv_bytes_into(buffer)
    return _Unpickler(text, frame, buffers).load()


class _HeardTask(Task):
    """The task of whoever asked, at the other end."""

    def __init__(self, connection: Connection, frame: Frame) -> None:
        super().__init__(lambda what, part: _send(connection, frame, (_TOLD, (what, part))), self._asked_to_end)
        self._connection = connection
        self._ended = False

    def _asked_to_end(self) -> bool:
        if not self._ended and self._connection.poll(0):
            self._ended = self._connection.recv_bytes() == _CANCEL
        return self._ended


def _serve(path: Path, connection: Connection) -> None:
    """Call what is asked for until the other end hangs up."""
    frame = file.load(path)
    while True:
        asked = _receive(connection, frame)
        if asked == _TOO_LATE:
            continue
        limits, roles, function, arguments, named = asked
        adopt(limits)
        take_roles(frame, roles)
        try:
            answer: tuple[str, Any] = _DONE, function(_HeardTask(connection, frame), *arguments, **named)
        except WendascopeError as error:
            answer = _FAILED, (error, "")
        except Exception as error:
            answer = _FAILED, (InternalError(str(InternalError.of(error))), traceback.format_exc())
        _send(connection, frame, answer)


def main(path: str, connection_fd: int, niceness: int) -> None:
    """What the process does from its start to its end."""
    os.nice(niceness)
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # whoever asked decides what Ctrl-C means
    signal.signal(signal.SIGTERM, lambda *_: sys.exit())  # so that its replay processes are ended, too
    with contextlib.suppress(EOFError, OSError):
        _serve(Path(path), Connection(connection_fd))
    signal.signal(signal.SIGTERM, signal.SIG_DFL)  # nothing is left to be ended in order


if __name__ == "__main__":
    main(sys.argv[1], int(sys.argv[2]), int(sys.argv[3]))
