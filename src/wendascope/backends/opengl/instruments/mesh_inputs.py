"""What one draw fetches."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from wendascope.backends.doors import StepMesh
from wendascope.backends.opengl.calls.packed import CallBatch
from wendascope.backends.opengl.instruments.indices import draw_indices
from wendascope.backends.opengl.objects.primitives import restart_index, triangles
from wendascope.backends.opengl.running.session import ReplaySession
from wendascope.backends.opengl.running.walk import Walk
from wendascope.backends.opengl.tables.vertex_inputs import vertex_inputs
from wendascope.backends.opengl.tables.written import written_objects
from wendascope.frame.resources import VertexInput
from wendascope.registry import GL


def step_mesh(session: ReplaySession, step: int) -> StepMesh:
    """See `doors.Session.mesh`."""
    frame = session.frame
    call = int(frame.steps.call[step])
    inputs = vertex_inputs(frame, step)
    written = written_objects(frame).buffers
    names = {p.name for p in frame.calls.command(call).parameters}
    if any(row.buffer in written for row in inputs) or "indices" in names:
        Walk(session).run_to(int(frame.steps.begin[step]))
    indices = draw_indices(session, step)
    first = 0
    if indices is None and {"first", "count"} <= names and not isinstance(frame.calls.argument(call, "first"), bytes):
        first = int(frame.calls.argument(call, "first"))
        indices = np.arange(max(int(frame.calls.argument(call, "count")), 0), dtype=np.uint32)
    if indices is None:
        return StepMesh([(row, None) for row in inputs], None)
    base = first + (int(frame.calls.argument(call, "basevertex")) if "basevertex" in names else 0)
    used = indices.astype(np.int64) + base
    low, count = int(used.min(initial=0)), int(np.ptp(used)) + 1 if len(used) else 0
    corners = triangles(int(frame.calls.argument(call, "mode")), indices, restart_index(frame, call))
    return StepMesh([(row, _values(session, row, low, count)) for row in inputs], corners.astype(np.int64) + base - low)


def _values(session: ReplaySession, row: VertexInput, first: int, count: int) -> npt.NDArray[np.float64] | None:
    """Values of one attribute from vertex `first` on, shape (count, size), as the shader sees them."""
    dtype = row.dtype
    if dtype is None or not row.buffer or count <= 0:
        return None
    if row.divisor:
        first, count = 0, min(count, 1)
    record = session.frame.objects.buffer(row.buffer)
    offset = row.offset + first * row.stride
    size = (count - 1) * row.stride + row.bytes
    if record is None or size <= 0 or offset < 0 or size > 1 << 30:
        return None
    batch = CallBatch(session.offers)
    length = batch.out(8)
    batch.call("glBindBuffer", GL.COPY_READ_BUFFER, session.names.get("buffer", row.buffer))
    batch.call("glGetBufferParameteriv", GL.COPY_READ_BUFFER, GL.BUFFER_SIZE, length)
    session.run_batch(batch)
    if offset + size > length.ints()[0]:
        return None
    batch = CallBatch(session.offers)
    out = batch.out(size)
    batch.call("wendaReadBuffer", session.names.get("buffer", row.buffer), offset, size, out)
    session.run_batch(batch)
    raw = np.frombuffer(out.data, np.uint8, size)
    padded = np.zeros(count * row.stride, np.uint8)
    padded[: len(raw)] = raw[: len(padded)]
    rows = np.ascontiguousarray(padded.reshape(count, row.stride)[:, : row.bytes]) if row.stride >= row.bytes else None
    if rows is None:
        return None
    values = rows.view(dtype).reshape(count, row.size).astype(np.float64)
    if row.normalized and dtype.kind in "iu":
        values = np.maximum(values / np.iinfo(dtype.str).max, -1.0)
    return values
