"""A model of the cache in which devices keep the vertices that they ran last."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

CACHE = 32
"""Entries of the vertex cache that the model has: first in, first out."""


def transformed_vertices(indices: npt.NDArray[np.uint32], size: int = CACHE) -> int:
    """How often a vertex is run when the last `size` results are kept, first in, first out."""
    entered: dict[int, int] = {}
    misses = 0
    for index in indices.tolist():
        at = entered.get(index)
        if at is None or at < misses - size:
            entered[index] = misses
            misses += 1
    return misses
