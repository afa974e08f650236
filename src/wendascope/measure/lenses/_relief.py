"""Counts painted as a relief: sand for little, sea for much, with a line wherever the level changes."""

from __future__ import annotations

import itertools
from collections.abc import Sequence

import numpy as np
import numpy.typing as npt

from wendascope.colours import RELIEF
from wendascope.measure.lenses._registry import Image, LegendEntry

NOTHING = "#8E8E8A"
"""Where there is nothing to count."""


def _rgb(colour: str) -> tuple[int, int, int]:
    return int(colour[1:3], 16), int(colour[3:5], 16), int(colour[5:7], 16)


class Relief:
    """Levels of a count: level k is from `steps[k]` on; below the first there is nothing."""

    def __init__(self, steps: Sequence[float], texts: Sequence[str]) -> None:
        assert len(steps) == len(texts) == len(RELIEF)
        self._steps, self._texts = np.array(steps), list(texts)

    def levels(self, values: npt.NDArray[np.floating] | npt.NDArray[np.integer]) -> npt.NDArray[np.intp]:
        """Level of each value, -1 for nothing."""
        return np.searchsorted(self._steps, values, side="right") - 1

    def paint(self, values: npt.NDArray[np.floating] | npt.NDArray[np.integer]) -> Image:
        """`values` (h, w), bottom row first; the image has its top row first."""
        levels = self.levels(values)[::-1]
        colours = np.array([_rgb(c) for c in (*RELIEF, NOTHING)], np.uint8)  # level -1 is the last
        image = colours[levels]
        edge = np.zeros(levels.shape, bool)
        edge[:, 1:] |= levels[:, 1:] != levels[:, :-1]
        edge[1:] |= levels[1:] != levels[:-1]
        # a line is drawn darker on light ground and lighter on dark ground
        light = (levels >= 0) & (levels < 4)
        image[edge & light] = (image[edge & light] * 0.72).astype(np.uint8)
        image[edge & ~light] = np.minimum(image[edge & ~light].astype(np.int16) + 46, 255).astype(np.uint8)
        return np.ascontiguousarray(image)

    def legend(self, values: npt.NDArray[np.floating] | npt.NDArray[np.integer]) -> list[LegendEntry]:
        """Every level with its share of the places."""
        levels = self.levels(values).ravel()
        shares = np.bincount(levels + 1, minlength=len(RELIEF) + 1) / max(levels.size, 1)
        rows = [LegendEntry(NOTHING, "0", float(shares[0]))]
        return rows + [
            LegendEntry(c, t, float(s)) for c, t, s in zip(RELIEF, self._texts, shares[1:].tolist(), strict=True)
        ]


def ranges(bounds: Sequence[int]) -> list[str]:
    """Texts of whole-number levels: `1`, `2`, `5-6`, ..., `20+`."""
    texts = [str(a) if b == a + 1 else f"{a}-{b - 1}" for a, b in itertools.pairwise(bounds)]
    return [*texts, f"{bounds[-1]}+"]
