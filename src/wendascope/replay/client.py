"""The replay process seen from outside: start it, give it jobs, survive its crashes."""

from __future__ import annotations

import mmap
import os
import socket
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Mapping
from multiprocessing.connection import Connection
from pathlib import Path
from typing import IO, TypeVar

import msgspec
import numpy as np
import platformdirs

from wendascope.analysis.guidelines import guidelines
from wendascope.errors import CancelledError, MachineError, ReplayCrashedError, WendascopeError, error_named
from wendascope.frame.file import content_of
from wendascope.frame.origins import MADE_HERE, origin
from wendascope.frame.places import frame_path, place_of
from wendascope.replay.jobs import Asked
from wendascope.replay.progress import CANCEL, PROGRESS_BYTES
from wendascope.replay.wire import Request, decode_reply, encode
from wendascope.task import QUIET, Task

R = TypeVar("R")
_DRAWS_NOTHING = {"GALLIUM_NOOP": "1"}
_STALLED = 76
"""Exit code of a replay process that was ended because one call took too long; see guard.c."""
_PATIENCE = 10.0
"""Seconds that a cancelled job may take to notice before its process is ended."""


def _shader_cache(path: Path) -> str:
    """The folder for compiled shaders of frames made here. What a stranger's frame leads a driver to write is kept
    for nobody.
    """
    try:
        if origin(content_of(path)) != MADE_HERE:
            return ""
        folder = platformdirs.user_cache_path("wendascope") / "shaders"
        folder.mkdir(mode=0o700, parents=True, exist_ok=True)
    except (OSError, WendascopeError):
        return ""
    return str(folder)


class InForce(msgspec.Struct):
    """What a replay process here gave up, and what came of trying it all the same."""

    in_force: list[str]
    refused: list[str]
    allowed: list[str]

    @property
    def sentence(self) -> str:
        if not self.in_force or self.allowed:
            can = f": it still {', '.join(self.allowed)}" if self.allowed else ""
            return f"This machine cannot confine that process wholly{can}."
        return f"That process is confined: {'; '.join(self.in_force)}."


def in_force() -> InForce:
    """Asked of a process that is confined like a replay process and then tries. Raises MachineError."""
    command = [sys.executable, "-P", "-m", "wendascope.replay.worker", "--in-force"]
    done = subprocess.run(command, capture_output=True, check=False, stdin=subprocess.DEVNULL)
    if done.returncode:
        raise MachineError(
            f"a replay process cannot be started ({done.stderr.decode(errors='replace').strip().splitlines()[-1:]})"
        )
    return msgspec.json.decode(done.stdout, type=InForce)


class Replay:
    """A frame file in a replay process of its own. Use as a context manager.

    Jobs run one at a time; the process is started when first needed and again after a crash. It replays one frame of a
    sequence at a time, and turns to another when told.
    """

    def __init__(self, path: Path, environment: Mapping[str, str] | None = None) -> None:
        self.path = path
        self._environment = dict(environment or {})
        self._companion: Replay | None = None
        self._draws = False
        self._cache = ""
        self._process: subprocess.Popen[bytes] | None = None
        self._connection: Connection | None = None
        self._log: IO[bytes] | None = None
        self._running = threading.Lock()
        fd = os.memfd_create("wenda-progress", os.MFD_CLOEXEC)
        os.ftruncate(fd, PROGRESS_BYTES)
        self._progress_fd = fd
        self._memory = mmap.mmap(fd, PROGRESS_BYTES)

    def __enter__(self) -> Replay:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def turn_to(self, number: int) -> None:
        """Replay another frame of the file from now on, counted from 1, in the same process: what was sent to the one
        before is forgotten. Must not be called while a job runs.
        """
        path = frame_path(self.path, number)
        if path == self.path:
            return
        if self._companion is not None:
            self._companion.close()
            self._companion = None
        self.path = path
        if self._process is not None and _shader_cache(path) != self._cache:
            self._stop()  # compiled shaders are kept of frames made here alone

    def without_drawing(self) -> Replay | None:
        """The same frame in a second process, whose driver draws nothing; None where it is known to draw all the
        same.
        """
        if self._companion is None and not self._draws:
            self._companion = Replay(self.path, _DRAWS_NOTHING)
        return self._companion

    def always_draws(self) -> None:
        """There is no driver here that draws nothing."""
        if self._companion is not None:
            self._companion.close()
        self._companion, self._draws = None, True

    def close(self) -> None:
        if self._companion is not None:
            self._companion.close()
            self._companion = None
        self._stop()
        if self._progress_fd >= 0:
            self._memory.close()
            os.close(self._progress_fd)
            self._progress_fd = -1

    def _start(self) -> None:
        ours, theirs = socket.socketpair()
        self._log = tempfile.TemporaryFile()  # noqa: SIM115 - lives as long as the process
        self._cache = _shader_cache(self.path)
        command = [
            sys.executable,
            "-P",
            "-m",
            "wendascope.replay.worker",
            str(self.path),
            str(theirs.fileno()),
            str(self._progress_fd),
            self._cache,
        ]
        environment = {k: v for k, v in os.environ.items() if k not in ("LD_PRELOAD", "WENDASCOPE_SOCKET")}
        environment |= self._environment
        self._process = subprocess.Popen(
            command,
            pass_fds=(theirs.fileno(), self._progress_fd),
            stdin=subprocess.DEVNULL,
            stdout=self._log,
            stderr=self._log,
            env=environment,
        )
        theirs.close()
        self._connection = Connection(ours.detach())

    def _stop(self) -> None:
        if self._connection is not None:
            self._connection.close()
            self._connection = None
        if self._process is not None:
            self._process.terminate()
            try:
                self._process.wait(2)
            except subprocess.TimeoutExpired:
                self._process.kill()
                self._process.wait()
            self._process = None
        if self._log is not None:
            self._log.close()
            self._log = None

    def run(
        self,
        asked: Asked[R],
        task: Task = QUIET,
        silent_seconds: float = 0.0,
    ) -> R:
        """Run a job there and return its result.

        With `silent_seconds`, a process that says nothing for so long is stopped, as a shader that never ends makes it.
        Raises what it raised (any WendascopeError), CancelledError, or ReplayCrashedError naming the call.
        """
        with self._running:
            if self._connection is None:
                self._start()
            connection = self._connection
            assert connection is not None
            try:
                connection.send_bytes(
                    encode(Request(asked.job.name, asked.arguments, place_of(self.path)[1], guidelines()))
                )
                return asked.job.result(self._wait(connection, task, silent_seconds))
            except (EOFError, OSError) as error:
                if self._connection is not connection:  # closed by whoever does not need it any more
                    raise CancelledError("cancelled") from error
                raise self._crashed() from error

    def _wait(self, connection: Connection, task: Task, silent_seconds: float) -> bytes:
        waited, asked = 0.0, False
        heard = time.monotonic()
        while True:
            if not connection.poll(0.05):
                if silent_seconds and time.monotonic() - heard > silent_seconds:
                    call = self._running_call()
                    self._stop()
                    where = f" at call {call}" if call is not None else ""
                    raise ReplayCrashedError(
                        f"the replay was stopped: it stood still for {silent_seconds:g} s{where}; does a shader loop"
                        " for ever?",
                        call,
                    )
                if task.cancelled and not asked:
                    connection.send_bytes(CANCEL)
                    asked = True
                waited += 0.05 if asked else 0.0
                if waited > _PATIENCE:
                    self._stop()
                    raise CancelledError("cancelled")
                continue
            reply = decode_reply(connection.recv_bytes())
            heard = time.monotonic()
            if not reply.done:
                task.tell(reply.what, reply.part)
                if task.cancelled and not asked:
                    connection.send_bytes(CANCEL)
                    asked = True
                continue
            if not reply.error:
                return reply.result
            error = error_named(reply.error_kind)(reply.error)
            error.__cause__ = RuntimeError(reply.trace) if reply.trace else None
            raise error

    def _running_call(self) -> int | None:
        """The captured call that the process is in, or was in; None where it is one of ours."""
        words = np.frombuffer(self._memory, np.int64, 2)
        index, count = int(words[0]), int(words[1])
        del words
        if not 0 <= index < count:
            return None
        origin = int(np.frombuffer(self._memory, np.int32, 1, 16 + 4 * index)[0])
        return origin if origin >= 0 else None

    def _crashed(self) -> ReplayCrashedError:
        code = self._process.wait() if self._process else 0
        call = self._running_call()
        last = ""
        if self._log is not None:
            self._log.seek(0)
            lines = self._log.read().decode("utf-8", "replace").strip().splitlines()
            last = f" ({lines[-1]})" if lines else ""
        self._stop()
        where = f" while running call {call}" if call is not None else ""
        if code == _STALLED:
            return ReplayCrashedError(
                f"the replay was stopped{where}: {last.strip(' ()')}; a shader may be too large to compile or loop for"
                " ever (WENDASCOPE_PATIENCE=120 waits longer, in seconds)",
                call,
            )
        ended = f"signal {-code}" if code < 0 else f"exit code {code}"
        again = "it is started again when it is needed"
        return ReplayCrashedError(f"the replay process ended with {ended}{where}{last}; {again}", call)
