"""Uploads between steps that change places: a step finds in every buffer that it reads what it found there as captured.

Programs that stream write one buffer again and again, a draw after each write. When such draws come in another order,
the writes that a draw needs come right before it.
"""

from __future__ import annotations

import numpy as np

from wendascope.backends.opengl.calls.packed import CallBatch
from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.backends.opengl.objects.buffer_contents import BufferContents
from wendascope.backends.opengl.tables.vertex_inputs import vertex_inputs
from wendascope.backends.opengl.tables.written import buffer_writes, element_buffers
from wendascope.errors import TrialError
from wendascope.frame.uses import UnknownContentsError
from wendascope.registry import GL, Role

_WHOLE = ("glBufferData", "glNamedBufferData")
_PARTS = ("glBufferSubData", "glNamedBufferSubData")
UPLOADS = (*_WHOLE, *_PARTS)


class MovedUploads:
    """The uploads of the calls [first, end), and what each buffer that they write holds by now."""

    def __init__(self, frame: OpenGLFrame, contents: BufferContents, first: int, end: int) -> None:
        self._frame, self._contents, self._first = frame, contents, first
        if not frame.calls.having(Role.WRITES_BUFFER)[first:end].any():
            self._writes: dict[int, list[int]] = {}
        else:
            every = {buffer: rows[(rows >= first) & (rows < end)] for buffer, rows in buffer_writes(frame).items()}
            self._writes = {buffer: rows.tolist() for buffer, rows in every.items() if len(rows)}
        self._done = dict.fromkeys(self._writes, 0)
        """How many of its writes each buffer has seen."""
        self._anywhere = {t.buffer for t in frame.objects.textures if t.buffer}
        """Buffers that textures read: any step may."""

    def bring(self, batch: CallBatch, call: int, step: int | None) -> int:
        """Append what gives the buffers that a step reads the contents that captured `call` found; all buffers without
        a step. Returns which buffer is bound for vertices after it; 0 where nothing was appended. Raises TrialError.
        """
        bound = 0
        for buffer in self._writes if step is None else self._read(step):
            wanted = int(np.searchsorted(self._writes[buffer], call))
            if wanted != self._done[buffer]:
                batch.call("glBindBuffer", GL.ARRAY_BUFFER, buffer)
                self._bring(batch, buffer, wanted)
                bound = buffer
        return bound

    def _read(self, step: int) -> list[int]:
        """Buffers among those written that a step may read."""
        if not self._writes:
            return []
        history, call = self._frame.history, int(self._frame.steps.call[step])
        read = {row.buffer for row in vertex_inputs(self._frame, step)} | self._anywhere
        read |= set(element_buffers(self._frame, np.array([call])).tolist())
        read |= {history.number("indexed_buffer", call, *key) for key in history.keys("indexed_buffer")}
        return [buffer for buffer in self._writes if buffer in read]

    def _bring(self, batch: CallBatch, buffer: int, wanted: int) -> None:
        writes, calls = self._writes[buffer], self._frame.calls
        whole = [n for n in range(wanted) if calls.command(writes[n]).name in _WHOLE]
        done = self._done[buffer]
        if whole and not whole[-1] < done < wanted:
            done = whole[-1]
        if done > wanted:
            self._put(batch, buffer, writes[wanted])
            done = wanted
        for write in writes[done:wanted]:
            data, size = calls.argument(write, "data"), int(calls.argument(write, "size"))
            if calls.command(write).name in _WHOLE:
                batch.call("glBufferData", GL.ARRAY_BUFFER, size, data, calls.argument(write, "usage"))
            else:
                batch.call("glBufferSubData", GL.ARRAY_BUFFER, int(calls.argument(write, "offset")), size, data)
        self._done[buffer] = wanted

    def _put(self, batch: CallBatch, buffer: int, call: int) -> None:
        """All that the buffer held when a call came, where no upload of the run defines it anew."""
        try:
            data = self._contents.at(buffer, call)
        except UnknownContentsError as error:
            raise TrialError(f"{error} writes buffer {buffer}: what was in it only the GPU knows") from error
        if any(self._frame.calls.command(write).name in _WHOLE for write in self._writes[buffer]):
            record = next((b for b in self._frame.objects.buffers if b.name == buffer), None)
            batch.call("glBufferData", GL.ARRAY_BUFFER, len(data), data, record.usage if record else GL.STREAM_DRAW)
        else:
            batch.call("glBufferSubData", GL.ARRAY_BUFFER, 0, len(data), data)
