"""What a buffer holds when a call comes, worked out from its captured contents and the writes of the frame."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from wendascope.frame.uses import UnknownContentsError
from wendascope.opengl.written import buffer_writes

if TYPE_CHECKING:
    from wendascope.opengl.frame import OpenGLFrame


class BufferContents:
    """Contents of the buffers of one frame over its calls."""

    def __init__(self, frame: OpenGLFrame) -> None:
        self._frame = frame
        self._writes = buffer_writes(frame)
        self._records = {b.name: b for b in frame.objects.buffers}
        self._known: dict[tuple[int, int], bytes] = {}

    def at(self, buffer: int, call: int) -> bytes:
        """Raises UnknownContentsError."""
        writes = self._writes.get(buffer, np.zeros(0, np.int64))
        count = int(np.searchsorted(writes, call))
        key = (buffer, count)
        if key not in self._known:
            record = self._records.get(buffer)
            data = (
                bytearray(self._frame.blobs.get(record.contents))
                if record and record.contents
                else bytearray(record.size if record else 0)
            )
            for write in writes[:count].tolist():
                data = self._written(data, write)
            self._known[key] = bytes(data)
        return self._known[key]

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
