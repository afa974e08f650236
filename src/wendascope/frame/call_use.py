"""Every call of a frame by what became of it: used, repeating what was set, or replaced before anything used it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from wendascope.frame.numbers import Ints, Mask

USES = ("used", "repeats", "overwritten", "step", "no state")
USED, REPEATS, OVERWRITTEN, STEP, NO_STATE = range(5)
"""A call that sets state; a step; or one that does neither (uploads, markers, questions)."""
KINDS = (
    "program",
    "texture, sampler",
    "buffer, vertex array",
    "uniform",
    "block",
    "blend, depth, raster",
    "framebuffer",
    "viewport, scissor",
    "other",
)
BEFORE, NOBODY = -1, -2
"""Stand for the state before the frame, and for no call at all."""


@dataclass
class CallUse:
    """One row a call; arrays of shape (calls,)."""

    use: npt.NDArray[np.uint8]
    """Index into USES."""
    kind: npt.NDArray[np.uint8]
    """Index into KINDS."""
    because: Ints
    """For a repeat the call that had set the same value (or BEFORE); for an overwritten call the one that replaced it;
    NOBODY for all others."""

    @classmethod
    def nothing(cls, calls: int) -> CallUse:
        """Of that many calls none is redundant."""
        other = np.full(calls, KINDS.index("other"), np.uint8)
        return cls(np.full(calls, USED, np.uint8), other, np.full(calls, NOBODY, np.int64))

    @property
    def redundant(self) -> Mask:
        """What could be left out, shape (calls,)."""
        return np.asarray((self.use == REPEATS) | (self.use == OVERWRITTEN))
