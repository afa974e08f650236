"""Meshes of fewer triangles: the same vertices, with simpler indices."""

from __future__ import annotations

import meshoptimizer
import numpy as np
import numpy.typing as npt

from wendascope.backends.opengl.calls.packed import CallBatch
from wendascope.backends.opengl.changes.batching import drawn_indices, vertex_values
from wendascope.backends.opengl.changes.frame_change import FrameChange, lowers
from wendascope.backends.opengl.tables.vertex_inputs import vertex_inputs
from wendascope.backends.opengl.tables.written import element_buffers
from wendascope.errors import TrialError
from wendascope.frame.remedy import Remedy
from wendascope.frame.resources import holding_positions
from wendascope.registry import GL

_LEAST_REMOVED = 0.2
"""Of the triangles: less is not worth a mesh of its own."""


@lowers("simplify-mesh")
def simplify_mesh(change: FrameChange, item: Remedy) -> None:
    """Draw every step with as few triangles as the remedy says, or as its error allows where those are more."""
    known: dict[bytes, npt.NDArray[np.uint32]] = {}
    wanted, error = int(item.values.get("triangles", 0)), float(item.values.get("error", 1.0))
    for step in item.steps:
        used = triangle_indices(change, step, "simplified")
        corners, indices = np.unique(used, return_inverse=True)
        places = positions(change, step, corners)
        key = indices.tobytes() + places.tobytes()
        if key not in known:
            known[key] = _joined(indices.astype(np.uint32).reshape(-1), places, wanted, error)
        draw_these(change, step, corners[known[key]].astype(np.uint32))


def _joined(
    indices: npt.NDArray[np.uint32], places: npt.NDArray[np.float32], triangles: int, error: float
) -> npt.NDArray[np.uint32]:
    """The same as `simplified`; where triangles share no corners (meshes without indices, hard edges), corners at one
    place are taken as one, with the other attributes of the first of them. Raises TrialError.
    """
    try:
        return simplified(indices, places, triangles, error)
    except TrialError:
        _, first, same = np.unique(places, axis=0, return_index=True, return_inverse=True)
        if len(first) == len(places):
            raise
        joined = same.reshape(-1).astype(np.uint32)[indices]
        made = simplified(joined, np.ascontiguousarray(places[first]), triangles, error)
        return first[made].astype(np.uint32)


def simplified(
    indices: npt.NDArray[np.uint32], positions: npt.NDArray[np.float32], triangles: int, error: float
) -> npt.NDArray[np.uint32]:
    """Indices, shape (3 n,), of no fewer triangles than these over the same positions, shape (vertices, 3), in an order
    that suits the vertex cache. `error` is how far the surface may move, as a part of the mesh's extent. Raises
    TrialError where hardly fewer can be had.
    """
    made = np.zeros(len(indices), np.uint32)
    count = meshoptimizer.simplify(
        made, indices, positions, target_index_count=max(3 * triangles, 3), target_error=error
    )
    if count > (1 - _LEAST_REMOVED) * len(indices):
        raise TrialError(f"the mesh cannot be simplified: {count // 3:,} of {len(indices) // 3:,} triangles are left")
    ordered = np.zeros(count, np.uint32)
    meshoptimizer.optimize_vertex_cache(ordered, np.ascontiguousarray(made[:count]), vertex_count=len(positions))
    return ordered


def triangle_indices(change: FrameChange, step: int, what: str) -> npt.NDArray[np.int64]:
    """Vertices of the triangles that a step draws, shape (3 n,). Raises TrialError unless it is a single draw of them;
    `what` is what they cannot be then.
    """
    call = int(change.frame.steps.call[step])
    if int(change.frame.steps.instances[step]) != 1 or change.frame.steps.begin[step] != call:
        raise TrialError(f"only single draws from buffers are {what} here")
    mode, used = drawn_indices(change.frame, step, change.new.known_contents())
    if mode != GL.TRIANGLES:
        raise TrialError("the draws are not of triangles")
    return used


def positions(change: FrameChange, step: int, corners: npt.NDArray[np.int64]) -> npt.NDArray[np.float32]:
    """Positions of some vertices of a step, shape (vertices, 3), before any transform. Raises TrialError."""
    inputs = [row for row in vertex_inputs(change.frame, step) if row.name]
    row = holding_positions(inputs)
    if row is None:
        raise TrialError("no attribute of floating-point numbers holds positions")
    data = vertex_values(change.frame, step, row, corners, change.new.known_contents()).view(np.float32)
    found = np.zeros((len(data), 3), np.float32)
    used = min(data.shape[1], 3)
    found[:, :used] = data[:, :used]
    return found


def draw_these(change: FrameChange, step: int, indices: npt.NDArray[np.uint32]) -> None:
    """A draw of these triangles of the step's vertices, shape (3 n,), in place of its call."""
    call = int(change.frame.steps.call[step])
    buffer, size = change.new.buffer(indices.tobytes())
    change.added_bytes += size
    batch = CallBatch()
    batch.call("glBindBuffer", GL.ELEMENT_ARRAY_BUFFER, buffer)
    batch.call("glDrawElements", GL.TRIANGLES, len(indices), GL.UNSIGNED_INT, None)
    batch.call("glBindBuffer", GL.ELEMENT_ARRAY_BUFFER, int(element_buffers(change.frame, np.array([call]))[0]))
    change.put_in_place(call, batch)
