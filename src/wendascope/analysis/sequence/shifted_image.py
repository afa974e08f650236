"""Whether one image is another one moved by whole pixels: what a layer that scrolls comes to."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

_PEAKS = 6
"""Offsets that are looked at, the most likely first."""
_LEAST_COMMON = 0.5
"""Of the image: what both have to show."""
_LEAST_VARIED = 16
"""Different pixels that what both show has at least: of plain areas nobody can tell where they went."""


def offset_between(before: npt.NDArray[np.uint8], after: npt.NDArray[np.uint8]) -> tuple[int, int] | None:
    """(columns, rows) by which the pixels of `before` have moved in `after`, so that every byte of what both show is
    the same; None where there is no such offset, or where nothing moved. Both have shape (h, w, bytes of a pixel).

    Candidates come from phase correlation (Kuglin and Hines, 1975), and are compared pixel by pixel.
    """
    if before.shape != after.shape or before.size == 0 or np.array_equal(before, after):
        return None
    height, width = before.shape[:2]
    grey = [image.astype(np.float64).sum(axis=2) for image in (before, after)]
    a, b = (np.fft.rfft2(image - image.mean()) for image in grey)
    cross = b * np.conj(a)
    surface = np.fft.irfft2(cross / np.maximum(np.abs(cross), 1e-9), s=(height, width))
    best = np.argpartition(surface.ravel(), -min(_PEAKS, surface.size))[-_PEAKS:]
    for at in best[np.argsort(-surface.ravel()[best])].tolist():
        row, column = divmod(at, width)
        for rows in {row, row - height}:
            for columns in {column, column - width}:
                if (columns or rows) and _same(before, after, columns, rows):
                    return columns, rows
    return None


def _same(before: npt.NDArray[np.uint8], after: npt.NDArray[np.uint8], columns: int, rows: int) -> bool:
    """Whether what both show is the same, is much of the image, and is not plain."""
    height, width = before.shape[:2]
    if (height - abs(rows)) * (width - abs(columns)) < _LEAST_COMMON * height * width:
        return False
    there = after[max(rows, 0) : height + min(rows, 0), max(columns, 0) : width + min(columns, 0)]
    here = before[max(-rows, 0) : height + min(-rows, 0), max(-columns, 0) : width + min(-columns, 0)]
    if not np.array_equal(here, there):
        return False
    return _varied(here)


def _varied(image: npt.NDArray[np.uint8]) -> bool:
    """Whether enough pixels differ from a neighbour."""
    across = (image[:, 1:] != image[:, :-1]).any(axis=2).sum()
    down = (image[1:] != image[:-1]).any(axis=2).sum()
    return bool(across + down >= _LEAST_VARIED)
