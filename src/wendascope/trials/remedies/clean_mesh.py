"""Meshes without triangles that draw nothing, and without those that a draw holds twice."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from wendascope.analysis.findings import Remedy
from wendascope.errors import TrialError
from wendascope.trials.remedies._registry import FrameChange, remedy
from wendascope.trials.remedies.simplify_mesh import draw_these, positions, triangle_indices


@remedy("clean-mesh")
def clean_mesh(change: FrameChange, item: Remedy) -> None:
    """Draw every step with indices that hold each triangle once, and none with two equal corners."""
    for step in item.steps:
        used = triangle_indices(change, step, "cleaned")
        corners, indices = np.unique(used, return_inverse=True)
        places = np.unique(positions(change, step, corners, 2), axis=0, return_inverse=True)[1].reshape(-1)
        kept = cleaned(places[indices.reshape(-1)].astype(np.uint32))
        if len(kept) * 3 == len(used):
            raise TrialError("its triangles differ in their indices and positions")
        draw_these(change, step, used.reshape(-1, 3)[kept].reshape(-1).astype(np.uint32))


def cleaned(corners: npt.NDArray[np.uint32]) -> npt.NDArray[np.int64]:
    """Which triangles have three different corners and come for the first time, in their order; `corners`, shape
    (3 n,), names the place of each.
    """
    triangles = corners[: len(corners) // 3 * 3].reshape(-1, 3)
    a, b, c = triangles.T
    whole = np.flatnonzero((a != b) & (b != c) & (a != c))
    _, first = np.unique(np.sort(triangles[whole], axis=1), axis=0, return_index=True)
    return whole[np.sort(first)]
