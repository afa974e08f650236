"""How a job in the replay process reports progress and hears that it was cancelled."""

from __future__ import annotations

from multiprocessing.connection import Connection

from wendascope.errors import CancelledError
from wendascope.replay.wire import Reply, encode
from wendascope.task import Task

PROGRESS_BYTES = 16 << 20
"""Memory file of the running call: its index in the buffer, the number of calls, then the captured call of each."""

CANCEL = b"cancel"


class Job(Task):
    """Handed to every function that the replay process runs."""

    def __init__(self, connection: Connection | None = None) -> None:
        self._connection = connection

    def progress(self, what: str, part: float) -> None:
        if self._connection is None:
            return
        self._connection.send_bytes(encode(Reply(False, what, part)))
        while self._connection.poll(0):
            if self._connection.recv_bytes() == CANCEL:
                raise CancelledError("cancelled")
