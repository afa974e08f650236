"""The window's end of a capture session: starts the process that holds the program, and speaks to it."""

from __future__ import annotations

import os
import sys
from pathlib import Path

from PySide6.QtCore import QObject, QProcess, QTimer, Signal
from PySide6.QtNetwork import QLocalSocket

from wendascope.errors import WendascopeError
from wendascope.tap.messages import Ended, Event, Lines, Request, event, pack
from wendascope.tap.sessions import socket_path

_RETRY_MS = 60
_PATIENCE_MS = 15000


class SessionLink(QObject):
    """One session at a time. Nothing here waits: answers come as signals."""

    told = Signal(object)
    """An Event of the capture session."""
    failed = Signal(str)
    """It could not be started or reached."""

    def __init__(self) -> None:
        super().__init__()
        self._process: QProcess | None = None
        self._socket = QLocalSocket()
        self._socket.readyRead.connect(self._read)
        self._socket.disconnected.connect(self._gone)
        self._lines = Lines()
        self._name = ""
        self._started = 0
        self._waited = 0
        self._errors = ""
        self._over = True
        self._reached = False
        """Whether this session answered: a socket also tells of attempts that came to nothing as of an end."""
        self._retry = QTimer()
        self._retry.setSingleShot(True)
        self._retry.timeout.connect(self._try)

    def start(self, command: list[str], folder: str, environment: list[str], out: Path, frame_end: str) -> None:
        """Run a program under the tap in a process of its own."""
        self._started += 1
        self._name = f"window-{os.getpid()}-{self._started}"
        arguments = [
            "-m",
            "wendascope.cli",
            "capture",
            "--listen",
            self._name,
            "--out",
            str(out),
            "--frame-end",
            frame_end,
        ]
        arguments += ["--folder", folder] if folder else []
        for assignment in environment:
            arguments += ["--env", assignment]
        process = QProcess(self)
        process.setProgram(sys.executable)
        process.setArguments([*arguments, "--json", "--", *command])
        process.readyReadStandardError.connect(self._read_errors)
        process.finished.connect(lambda *_: self._process_ended(process))
        self._process, self._errors = process, ""
        process.start()
        self._begin()

    def attach(self, name: str) -> None:
        """Drive a program that was started elsewhere with `capture --listen`."""
        self._name, self._process = name, None
        self._begin()

    def send(self, request: Request) -> None:
        if self._socket.state() == QLocalSocket.LocalSocketState.ConnectedState:
            self._socket.write(pack(request))

    def close(self) -> None:
        """Let go of the capture session; the process that holds the program ends with its last request."""
        self._over = True
        self._retry.stop()
        self._socket.flush()
        self._socket.abort()
        if self._process is not None:
            self._process.terminate()
            if not self._process.waitForFinished(5000):
                self._process.kill()
                self._process.waitForFinished(1000)

    # ---- connecting ----------------------------------------------------------------------------------

    def _begin(self) -> None:
        self._socket.abort()
        self._lines, self._waited, self._over, self._reached = Lines(), 0, False, False
        self._try()

    def _try(self) -> None:
        self._socket.connectToServer(str(socket_path(self._name)))
        if self._socket.waitForConnected(1):  # a local socket answers at once or not at all
            self._reached = True
            return
        self._waited += _RETRY_MS
        if self._over:
            return
        if self._process is None or self._waited > _PATIENCE_MS:
            self._fail(f"no capture session called {self._name} is listening")
        else:
            self._retry.start(_RETRY_MS)

    def _fail(self, text: str) -> None:
        if not self._over:
            self._over = True
            if self._process is not None:
                self._process.terminate()  # which ends the program too
            self.failed.emit(text)

    # ---- listening --------------------------------------------------------------------------------------

    def _read(self) -> None:
        try:
            for line in self._lines.feed(bytes(self._socket.readAll().data())):
                found: Event = event(line)
                self._over = self._over or isinstance(found, Ended)
                self.told.emit(found)
        except WendascopeError as error:
            self._socket.abort()
            self._fail(str(error))

    def _gone(self) -> None:
        if self._reached:
            self._fail("the capture process ended unexpectedly; the program may still be running")

    def _read_errors(self) -> None:
        if self._process is not None:
            self._errors += bytes(self._process.readAllStandardError().data()).decode("utf-8", "replace")
            self._errors = self._errors[-20000:]

    def _process_ended(self, process: QProcess) -> None:
        process.deleteLater()
        if process is not self._process:
            return  # that of a capture session before
        self._process = None
        said = [
            line.removeprefix("wendascope: ") for line in self._errors.splitlines() if line.startswith("wendascope: ")
        ]
        self._fail(said[-1] if said else "the process that holds the program ended")
