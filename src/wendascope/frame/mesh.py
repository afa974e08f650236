"""The vertices and triangles of one draw, as its buffers hold them."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt


@dataclass(frozen=True)
class StepMesh:
    """`triangles` of shape (n, 3) index rows of every attribute, of shape (vertices, components)."""

    name: str
    triangles: npt.NDArray[np.uint32]
    attributes: dict[str, npt.NDArray[np.float32]] = field(default_factory=dict)
    positions: str = ""
    """Which of them is the place of a vertex."""
