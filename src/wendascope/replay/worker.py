"""The replay process: one frame, one context, jobs one after another.

Started by `client` with the file to open, a socket and a memory file in which the executor keeps the
index of the running call, so that a crash can be told from outside.
"""

from __future__ import annotations

import importlib
import mmap
import resource
import signal
import sys
import traceback
from multiprocessing.connection import Connection
from pathlib import Path

import numpy as np

from wendascope.errors import CancelledError, ReplayError, WendascopeError
from wendascope.frame.file import load
from wendascope.replay.progress import PROGRESS_BYTES, Job
from wendascope.replay.session import ReplaySession
from wendascope.replay.wire import Reply, decode_request, encode

_MEMORY_LIMIT = 32 << 30
_PREFIX = "wendascope."


def _limit_resources() -> None:
    """A hostile frame may waste this process, not the machine."""
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    _, hard = resource.getrlimit(resource.RLIMIT_AS)
    limit = _MEMORY_LIMIT if hard == resource.RLIM_INFINITY else min(_MEMORY_LIMIT, hard)
    resource.setrlimit(resource.RLIMIT_AS, (limit, hard))
    resource.setrlimit(resource.RLIMIT_FSIZE, (1 << 30, resource.getrlimit(resource.RLIMIT_FSIZE)[1]))


def main(path: str, connection_fd: int, progress_fd: int) -> None:
    """Serve jobs until the client hangs up."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # the client decides what Ctrl-C means
    _limit_resources()
    connection = Connection(connection_fd)
    memory = mmap.mmap(progress_fd, PROGRESS_BYTES)
    words = np.frombuffer(memory, np.int64)
    session: ReplaySession | None = None
    while True:
        try:
            request = decode_request(connection.recv_bytes())
        except (EOFError, OSError):
            return
        job = Job(connection)
        try:
            if not request.module.startswith(_PREFIX):
                raise ReplayError(f"{request.module} is not a part of Wendascope")
            if session is None:
                job.progress("rebuilding the frame", 0.0)
                session = ReplaySession(load(Path(path)), words.ctypes.data)
                session.watch = words[1:]
            function = getattr(importlib.import_module(request.module), request.function)
            reply = Reply(True, result=function(session, job, **request.arguments))
        except CancelledError as error:
            reply = Reply(True, error=str(error), error_kind="CancelledError")
        except WendascopeError as error:
            reply = Reply(True, error=str(error), error_kind=type(error).__name__, trace=traceback.format_exc())
        except MemoryError:
            reply = Reply(True, error="the replay ran out of memory; close other programs", error_kind="ReplayError")
        except Exception as error:
            kind, text = type(error).__name__, str(error)
            reply = Reply(True, error=f"the replay failed: {kind}: {text}", error_kind="ReplayError", trace=traceback.format_exc())
        connection.send_bytes(encode(reply))


if __name__ == "__main__":
    main(sys.argv[1], int(sys.argv[2]), int(sys.argv[3]))
