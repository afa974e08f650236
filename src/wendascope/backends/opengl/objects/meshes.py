"""Meshes of single draws, read from the buffers as the draw finds them."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from wendascope.backends.opengl.calls.packed import Raw
from wendascope.backends.opengl.objects.buffer_contents import BufferContents
from wendascope.backends.opengl.objects.primitives import INDEX_TYPES, restart_index, triangles
from wendascope.backends.opengl.state.tracker import signed32
from wendascope.backends.opengl.tables.written import element_buffers
from wendascope.frame.mesh import StepMesh
from wendascope.frame.resources import VertexInput, holding_positions
from wendascope.frame.uses import UnknownContentsError

if TYPE_CHECKING:
    from wendascope.backends.opengl.frame import OpenGLFrame


def step_mesh(frame: OpenGLFrame, step: int) -> StepMesh | None:
    """None for what is no draw of triangles from buffers, or several ranges at once."""
    call = int(frame.steps.call[step])
    command = frame.calls.command(call)
    names = {p.name for p in command.parameters}
    if frame.steps.kind_name(step) != "draw" or not {"mode", "count"} <= names or "Multi" in command.name:
        return None
    which, inputs = frame.uses.inputs
    mine = [a for a in inputs[int(which[step])] if a.buffer and a.dtype is not None and not a.divisor]
    contents = frame.buffer_contents
    try:
        indices = _indices(frame, contents, call, names)
        place = holding_positions(mine)
        if indices is None or place is None:
            return None
        restart = restart_index(frame, call) if "indices" in names else None
        faces = triangles(int(frame.calls.argument(call, "mode")), indices.astype(np.uint32), restart)
        if len(faces) == 0:
            return None
        base = signed32(int(frame.calls.argument(call, "basevertex"))) if "basevertex" in names else 0
        used, renamed = np.unique(faces.astype(np.int64) + base, return_inverse=True)
        values = {_name(a): _values(contents.at(a.buffer, call), a, used) for a in mine}
    except (UnknownContentsError, ValueError, IndexError):
        return None
    return StepMesh(frame.step_name(step), renamed.reshape(-1, 3).astype(np.uint32), values, _name(place))


def _name(attribute: VertexInput) -> str:
    return attribute.name or f"attribute {attribute.index}"


def _indices(
    frame: OpenGLFrame, contents: BufferContents, call: int, names: set[str]
) -> np.ndarray[Any, np.dtype[Any]] | None:
    count = int(frame.calls.argument(call, "count"))
    if "indices" not in names:
        first = int(frame.calls.argument(call, "first")) if "first" in names else 0
        return np.arange(first, first + count)
    dtype = INDEX_TYPES.get(int(frame.calls.argument(call, "type")))
    where = frame.calls.argument(call, "indices")
    if dtype is None:
        return None
    if isinstance(where, bytes):
        return np.frombuffer(where, dtype, count)
    buffer = int(element_buffers(frame, np.array([call]))[0])
    start = where.value if isinstance(where, Raw) else 0
    return np.frombuffer(contents.at(buffer, call), dtype, count, start) if buffer else None


def _values(data: bytes, attribute: VertexInput, rows: np.ndarray[Any, Any]) -> np.ndarray[Any, np.dtype[np.float32]]:
    dtype = attribute.dtype
    assert dtype is not None
    count = (len(data) - attribute.offset - attribute.bytes) // attribute.stride + 1
    if len(rows) and (rows[0] < 0 or rows[-1] >= count):
        raise ValueError("vertices beyond the buffer")
    shape, strides = (count, attribute.size), (attribute.stride, dtype.itemsize)
    values = np.ndarray(shape, dtype, data, attribute.offset, strides)[rows].astype(np.float64)
    if attribute.normalized and dtype.kind in "iu":
        values = np.maximum(values / float(np.iinfo(str(dtype)).max), -1.0)
    return np.asarray(values.astype(np.float32))
