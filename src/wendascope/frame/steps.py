"""The steps of a frame: its units of GPU work, one after the other."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt

from wendascope.frame.numbers import Ints

KINDS = ("draw", "clear", "dispatch", "blit", "copy", "mipmaps")


@dataclass
class StepTable:
    """One row a step; every column is an array of shape (n,)."""

    call: Ints
    """The call that ends the step: for most steps the only one, for immediate mode its glEnd."""
    begin: Ints
    """The call that begins it: nothing may be put between the two."""
    kind: npt.NDArray[np.uint8]  # index into KINDS
    vertices: Ints  # vertices submitted, instances included
    triangles: Ints
    instances: Ints
    program: Ints
    group: list[tuple[str, ...]] = field(default_factory=list)
    """Debug groups open at each step, outermost first."""

    def __len__(self) -> int:
        return len(self.call)

    def kind_name(self, step: int) -> str:
        return KINDS[int(self.kind[step])]
