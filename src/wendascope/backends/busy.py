"""Load for calibrating clocks: processes that do nothing but run, when told to."""

from __future__ import annotations

import contextlib
import os
import select
import signal
from collections.abc import Iterator

_MOST = 8


class BusyLoops:
    """One process for each CPU, made before this one gives up its rights; each ends when this one does."""

    def __init__(self) -> None:
        self._ends: list[int] = []
        for _ in range(min(os.cpu_count() or 1, _MOST)):
            read, write = os.pipe()
            child = os.fork()
            if child == 0:
                os.dup2(read, 3)
                os.closerange(4, 1 << 16)  # nobody is to wait for what only this one holds open
                _serve(3)
            os.close(read)
            self._ends.append(write)
        signal.signal(signal.SIGCHLD, signal.SIG_IGN)  # nobody waits for them

    @contextlib.contextmanager
    def running(self) -> Iterator[None]:
        """All of them run meanwhile."""
        try:
            self._tell(b"1")
            yield
        finally:
            self._tell(b"0")

    def _tell(self, word: bytes) -> None:
        for end in self._ends:
            with contextlib.suppress(OSError):
                os.write(end, word)

    def close(self) -> None:
        """End them."""
        for end in self._ends:
            os.close(end)
        self._ends = []


def _serve(commands: int) -> None:
    """Run while told so; never returns."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    run = False
    while True:
        ready, _, _ = select.select([commands], [], [], 0 if run else None)
        if ready:
            word = os.read(commands, 1)
            if not word:
                os._exit(0)
            run = word == b"1"
        for _ in range(20_000 if run else 0):
            pass
