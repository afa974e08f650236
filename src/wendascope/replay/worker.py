"""The replay process: one file, one of its frames at a time with a context of its own, jobs one after another.

Started by `client` with the file to open, a socket and a memory file in which the executor keeps the
index of the running call, so that a crash can be told from outside. The file may come from a stranger: before
anything of it is read, the process gives up what it does not need.
"""

from __future__ import annotations

import os
import resource
import signal
import sys
from collections.abc import Callable
from pathlib import Path

from wendascope import confinement
from wendascope.backends.busy import BusyLoops
from wendascope.confinement import confine, limit_memory
from wendascope.frame.places import frame_path, place_of

PATIENCE = "WENDASCOPE_PATIENCE"
"""Seconds that any single call may take, in the place of those that such a call needs."""
_LARGEST_FILE = 1 << 30


def give_up_rights(path: str, cache: str) -> list[str]:
    """Returns what is in force, in words. Comes before all other imports: threads that exist already would not be
    confined.

    `cache` is the folder where the driver may keep compiled shaders; where there is none, it keeps none.
    """
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # the client decides what Ctrl-C means
    limit = limit_memory()
    resource.setrlimit(resource.RLIMIT_FSIZE, (_LARGEST_FILE, resource.getrlimit(resource.RLIMIT_FSIZE)[1]))
    os.environ |= (
        {"MESA_SHADER_CACHE_DIR": cache, "MESA_SHADER_CACHE_MAX_SIZE": "256M"}
        if cache
        else {"MESA_SHADER_CACHE_DISABLE": "true"}
    )
    file = str(place_of(Path(path))[0]) if path else ""
    readable, writable = ([os.path.realpath(p)] if p else [] for p in (file, cache))
    return [*confine(readable, writable), f"at most {limit >> 30} GiB of memory"]


def main(path: str, connection_fd: int, progress_fd: int, cache: str) -> None:
    """Serve jobs until the client hangs up."""
    busy = BusyLoops()
    give_up_rights(path, cache)

    from wendascope.backends.guard import guard

    guard(connection_fd, int(os.environ.get(PATIENCE, "0")))

    import mmap
    import traceback
    from multiprocessing.connection import Connection

    import numpy as np

    from wendascope import backends
    from wendascope.analysis.guidelines import adopt
    from wendascope.backends.doors import Session
    from wendascope.errors import CancelledError, WendascopeError
    from wendascope.frame import file
    from wendascope.replay.jobs import job_named
    from wendascope.replay.progress import CANCEL, PROGRESS_BYTES, Job
    from wendascope.replay.wire import Reply, decode_request, encode

    connection = Connection(connection_fd)
    memory = mmap.mmap(progress_fd, PROGRESS_BYTES)
    words = np.frombuffer(memory, np.int64)
    session: Session | None = None
    file_path, number = place_of(Path(path))
    while True:
        try:
            message = connection.recv_bytes()
        except (EOFError, OSError):
            return
        if message == CANCEL:
            continue  # what it was to end is over
        request = decode_request(message)
        job = Job(connection)
        try:
            wanted = job_named(request.job)
            adopt(request.guidelines)
            if session is not None and request.frame != number:
                session.close()
                session = None
            if session is None:
                job.progress("rebuilding the frame", 0.0)
                number = request.frame
                session = backends.session(file.load(frame_path(file_path, number)), words.ctypes.data)
                session.watch = words[1:]
                session.busy = busy
            reply = Reply(True, result=wanted.run(session, job, request.arguments))
        except CancelledError as error:
            reply = Reply(True, error=str(error), error_kind="CancelledError")
        except WendascopeError as error:
            reply = Reply(True, error=str(error), error_kind=type(error).__name__, trace=traceback.format_exc())
        except MemoryError:
            reply = Reply(True, error="the replay ran out of memory; close other programs", error_kind="ReplayError")
        except Exception as error:
            kind, text = type(error).__name__, str(error)
            reply = Reply(
                True, error=f"the replay failed: {kind}: {text}", error_kind="ReplayError", trace=traceback.format_exc()
            )
        connection.send_bytes(encode(reply))


def tell_what_is_in_force() -> None:
    """Give up rights as for a frame, then try what should be refused, and print what came of it as JSON."""
    import json
    import socket

    in_force = give_up_rights("", "")
    attempts: dict[str, Callable[[], object]] = {
        "reads your files": lambda: list(Path.home().iterdir()),
        "writes files": lambda: os.close(os.open("/tmp/wendascope-tries-to-write", os.O_WRONLY | os.O_CREAT, 0o600)),
        "opens connections": lambda: socket.socket().close(),
        "starts programs": lambda: os.waitpid(os.posix_spawn("/bin/true", ["true"], {}), 0),
        "signals other processes": lambda: os.kill(os.getppid(), 0),
        "raises its limit of memory": lambda: resource.setrlimit(resource.RLIMIT_AS, (resource.RLIM_INFINITY,) * 2),
    }
    can = {}
    for what, attempt in attempts.items():
        try:
            attempt()
            can[what] = True
        except (OSError, ValueError):
            can[what] = False
    can |= confinement.tries()
    refused, allowed = ([what for what, done in can.items() if done == wanted] for wanted in (False, True))
    print(json.dumps({"in_force": in_force, "refused": refused, "allowed": allowed}))


if __name__ == "__main__" and sys.argv[1:] == ["--in-force"]:
    tell_what_is_in_force()
elif __name__ == "__main__":
    main(sys.argv[1], int(sys.argv[2]), int(sys.argv[3]), sys.argv[4])
