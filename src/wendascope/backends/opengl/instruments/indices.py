"""Indices that indexed draws read, as they lie in the buffers when the draw comes."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from wendascope.backends.opengl.calls.packed import CallBatch, Raw
from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.backends.opengl.objects.primitives import INDEX_TYPES
from wendascope.backends.opengl.running.session import ReplaySession


def draw_indices(session: ReplaySession, step: int) -> npt.NDArray[np.uint32] | None:
    """Indices of a step's one draw, without base vertex, shape (n,). The frame has been run to the step.

    None where the step is not indexed, or draws several ranges, or takes its count from a buffer.
    """
    frame = session.frame
    call = int(frame.steps.call[step])
    command = frame.calls.command(call)
    names = {p.name: p for p in command.parameters}
    if "indices" not in names or "count" not in names or names["count"].kind == "pointer":
        return None
    count = int(frame.calls.argument(call, "count"))
    type_ = INDEX_TYPES.get(int(frame.calls.argument(call, "type")))
    if type_ is None or count <= 0 or count > 1 << 26:
        return None
    size = count * type_.itemsize
    where = frame.calls.argument(call, "indices")
    if isinstance(where, bytes):
        return np.frombuffer(where[:size], type_).astype(np.uint32) if len(where) >= size else None
    buffer = element_buffer(frame, call)
    if not buffer:
        return None
    batch = CallBatch(session.offers)
    out = batch.out(size)
    batch.call(
        "wendaReadBuffer", session.names.get("buffer", buffer), where.value if isinstance(where, Raw) else 0, size, out
    )
    session.run_batch(batch)
    return np.frombuffer(out.data, type_, count).astype(np.uint32)


def element_buffer(frame: OpenGLFrame, call: int) -> int:
    """The element buffer that a call finds bound; 0 for none."""
    array = frame.history.number("vertex_array", call)
    bound = frame.history.value("element_buffer", call, array)
    if bound is not None:
        return bound[0]
    record = frame.objects.vertex_array(array)
    return record.element_buffer if record else 0
