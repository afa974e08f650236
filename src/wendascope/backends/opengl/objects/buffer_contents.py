"""What a buffer holds when a call comes, worked out from its captured contents and the writes of the frame."""

from __future__ import annotations

import threading
from collections import OrderedDict
from typing import TYPE_CHECKING

import numpy as np

from wendascope.backends.opengl.tables.written import buffer_writes
from wendascope.frame.uses import UnknownContentsError

if TYPE_CHECKING:
    from wendascope.backends.opengl.frame import OpenGLFrame


_MOST_KEPT_BYTES = 64 << 20
"""Of whole contents that are kept beside the running ones."""


class BufferContents:
    """Contents of the buffers of one frame over its calls.

    Writes are carried out one after the other as later calls are asked about, so that following a stream of small
    uploads takes the time of the uploads. What was asked for is kept up to a limit; going back begins at the nearest of
    it.
    """

    def __init__(self, frame: OpenGLFrame) -> None:
        self._frame = frame
        self._writes = buffer_writes(frame)
        self._records = {b.name: b for b in frame.objects.buffers}
        self._running: dict[int, tuple[int, bytearray]] = {}
        """Buffer -> how many of its writes were carried out, and what it holds then."""
        self._kept: OrderedDict[tuple[int, int], bytes] = OrderedDict()
        self._kept_bytes = 0
        self._one_at_a_time = threading.Lock()

    def at(self, buffer: int, call: int) -> bytes:
        """All of it. Raises UnknownContentsError."""
        count = self._count(buffer, call)
        key = buffer, count
        with self._one_at_a_time:
            known = self._kept.get(key)
            if known is not None:
                self._kept.move_to_end(key)
                return known
            data = bytes(self._after(buffer, count))
            self._keep(key, data)
            return data

    def part(self, buffer: int, call: int, first: int, size: int) -> tuple[int, bytes]:
        """(bytes that it holds, some of them from a place on). Raises UnknownContentsError."""
        count = self._count(buffer, call)
        with self._one_at_a_time:
            data = self._after(buffer, count)
            return len(data), bytes(data[first : first + size])

    def _count(self, buffer: int, call: int) -> int:
        return int(np.searchsorted(self._writes.get(buffer, np.zeros(0, np.int64)), call))

    def _keep(self, key: tuple[int, int], data: bytes) -> None:
        self._kept[key] = data
        self._kept_bytes += len(data)
        while self._kept_bytes > _MOST_KEPT_BYTES and len(self._kept) > 1:
            self._kept_bytes -= len(self._kept.popitem(last=False)[1])

    def _after(self, buffer: int, count: int) -> bytearray:
        """What it holds after so many writes; the running contents, which the next question may change."""
        done, data = self._running.pop(buffer, (count + 1, bytearray()))
        if done > count:
            done, data = self._nearest(buffer, count)
        for write in self._writes.get(buffer, np.zeros(0, np.int64))[done:count].tolist():
            data = self._written(data, write)
        self._running[buffer] = count, data
        return data

    def _nearest(self, buffer: int, count: int) -> tuple[int, bytearray]:
        """The latest contents that are known up to so many writes: those that were captured, at least."""
        kept = max((n for name, n in self._kept if name == buffer and n <= count), default=None)
        if kept is not None:
            return kept, bytearray(self._kept[buffer, kept])
        record = self._records.get(buffer)
        if record is None or not record.contents:
            return 0, bytearray(record.size if record else 0)
        return 0, bytearray(self._frame.blobs.get(record.contents))

    def _written(self, data: bytearray, call: int) -> bytearray:
        calls = self._frame.calls
        name = calls.command(call).name
        if name in ("glBufferData", "glNamedBufferData", "glBufferStorage", "glNamedBufferStorage"):
            size = int(calls.argument(call, "size"))
            given = calls.argument(call, "data")
            return bytearray((given if isinstance(given, bytes) else b"").ljust(size, b"\0")[:size])
        if name in ("glBufferSubData", "glNamedBufferSubData", "wendaWriteBuffer"):
            offset, given = int(calls.argument(call, "offset")), calls.argument(call, "data")
            if isinstance(given, bytes) and 0 <= offset <= len(data) - len(given):
                data[offset : offset + len(given)] = given
            return data
        if name.startswith(("glMap", "glUnmap", "glFlush")):
            return data  # what was written through the mapping is a write of its own
        raise UnknownContentsError(name)
