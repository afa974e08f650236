"""Speaks to a capture session, waiting for its answers: for scripts and the command line."""

from __future__ import annotations

import select
import time
from collections import deque
from collections.abc import Iterator

from wendascope.errors import TargetError
from wendascope.tap.messages import Ended, Event, Hello, Lines, Problem, Request, event, pack
from wendascope.tap.sessions import connect


class SessionClient:
    """A context manager. Raises TargetError when no such capture session answers."""

    def __init__(self, name: str) -> None:
        self._socket = connect(name)
        self._lines = Lines()
        self._pending: deque[bytes] = deque()

    def __enter__(self) -> SessionClient:
        return self

    def __exit__(self, *_: object) -> None:
        self._socket.close()

    def send(self, message: Request) -> None:
        try:
            self._socket.sendall(pack(message))
        except OSError as error:
            raise TargetError("the capture session ended") from error

    def events(self, timeout: float) -> Iterator[Event]:
        """What the capture session says, until the time is over. Raises TargetError for problems and at the end."""
        deadline = time.monotonic() + timeout
        while True:
            while self._pending:
                found = event(self._pending.popleft())
                if isinstance(found, Problem):
                    raise TargetError(found.text)
                if isinstance(found, Ended):
                    raise TargetError(found.text, "\n".join(found.output))
                if not isinstance(found, Hello):
                    yield found
            rest = deadline - time.monotonic()
            readable = select.select([self._socket], [], [], rest)[0] if rest > 0 else []
            if not readable:
                return
            data = self._socket.recv(1 << 16)
            if not data:
                raise TargetError("the capture session ended")
            self._pending += self._lines.feed(data)
