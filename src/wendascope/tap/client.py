"""Speaks to a capture session, waiting for its answers: for scripts and the command line."""

from __future__ import annotations

import select
import time
from collections import deque
from collections.abc import Iterable, Iterator

from wendascope.errors import TargetError
from wendascope.tap.messages import Ended, Event, Hello, Lines, Problem, Request, event, pack
from wendascope.tap.sessions import connect

_SEND_SECONDS = 10.0


class SessionClient:
    """A context manager. Raises TargetError when no such capture session answers."""

    def __init__(self, name: str) -> None:
        self._socket = connect(name)
        self._lines = Lines()
        self._pending: deque[bytes] = deque()
        self._refused: OSError | None = None

    def __enter__(self) -> SessionClient:
        return self

    def __exit__(self, *_: object) -> None:
        self._socket.close()

    def send(self, message: Request) -> None:
        """Raises TargetError."""
        self.send_all([message])

    def send_all(self, messages: Iterable[Request]) -> None:
        """Several requests at once. Raises TargetError."""
        try:
            self._socket.settimeout(_SEND_SECONDS)
            self._socket.sendall(b"".join(map(pack, messages)))
        except TimeoutError as error:
            raise TargetError("the capture session does not listen; it may be stopped") from error
        except OSError as error:
            self._refused = error  # why, it may have said before it hung up

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
            try:
                data = self._socket.recv(1 << 16)
            except OSError:
                data = b""
            if not data:
                raise TargetError("the capture session ended") from self._refused
            self._pending += self._lines.feed(data)
