"""Meshes without triangles that draw nothing, and without those that a draw holds twice."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from wendascope.backends.opengl.changes.batching import vertex_values
from wendascope.backends.opengl.changes.frame_change import FrameChange, lowers
from wendascope.backends.opengl.changes.remedies.simplify_mesh import draw_these, triangle_indices
from wendascope.backends.opengl.tables.vertex_inputs import vertex_inputs
from wendascope.errors import TrialError
from wendascope.frame.remedy import Remedy
from wendascope.glsl.words import words_of


@lowers("clean-mesh")
def clean_mesh(change: FrameChange, item: Remedy) -> None:
    """Draw every step with indices that hold each triangle once, and none with two equal corners. What is blended is
    drawn as often as it was.
    """
    for step in item.steps:
        used = triangle_indices(change, step, "cleaned")
        corners, indices = np.unique(used, return_inverse=True)
        kept = cleaned(_alike(change, step, corners)[indices.reshape(-1)], not change.frame.uses.mixes_colours[step])
        if len(kept) * 3 == len(used):
            raise TrialError("its triangles differ in their vertices")
        draw_these(change, step, used.reshape(-1, 3)[kept].reshape(-1).astype(np.uint32))


def _alike(change: FrameChange, step: int, corners: npt.NDArray[np.int64]) -> npt.NDArray[np.uint32]:
    """Equal for vertices that the shader cannot tell apart: by all that it reads of them, since positions alone may be
    moved by the rest. Raises TrialError.
    """
    record = change.program(int(change.frame.steps.program[step]))
    if any(words_of(s.source) & {"gl_VertexID", "gl_VertexIndex"} for s in record.shaders):
        raise TrialError("its shader counts vertices")
    inputs = [row for row in vertex_inputs(change.frame, step) if row.name and not row.divisor]
    if not inputs:
        raise TrialError("its vertices come from no buffer")
    contents = change.new.known_contents()
    data = np.concatenate([vertex_values(change.frame, step, row, corners, contents) for row in inputs], axis=1)
    return np.unique(data, axis=0, return_inverse=True)[1].reshape(-1).astype(np.uint32)


def cleaned(corners: npt.NDArray[np.uint32], once: bool = True) -> npt.NDArray[np.int64]:
    """Which triangles have three different corners and, with `once`, come for the first time, in their order;
    `corners`, shape (3 n,), names the vertex of each.
    """
    triangles = corners[: len(corners) // 3 * 3].reshape(-1, 3)
    a, b, c = triangles.T
    whole = np.flatnonzero((a != b) & (b != c) & (a != c))
    if not once:
        return whole
    _, first = np.unique(np.sort(triangles[whole], axis=1), axis=0, return_index=True)
    return whole[np.sort(first)]
