"""Which parts of its target each step touches: what decides whether two steps may change places.

Parts are cells: all places of a target that the same steps touch are one. So the numbers stay few where little
overlaps, and nothing is lost; where too much does, places are put together to tiles first.
"""

from __future__ import annotations

import zlib
from collections.abc import Iterable, Iterator, Sequence

import msgspec
import numpy as np
import numpy.typing as npt

from wendascope.analysis.draw_order import Touched
from wendascope.analysis.layers import PassLayers
from wendascope.frame.frame import Frame
from wendascope.frame.numbers import Ints

_SIDES = (1, 4, 8, 16, 32, 64, 128)
"""Of a tile, in samples: the first of them at which the cells of a frame are no more than the most."""
_BOX_SIDE = 8
_MOST = 1_000_000
_MOST_BYTES = 64 << 20
_WIDE = 1 << 16
"""Tiles of a row, where only boxes are known."""


class Coverage(msgspec.Struct):
    """The cells that the fragments of each step reach, numbered in each pass by themselves; packed: differences of
    32-bit numbers, deflated.
    """

    side: int
    starts: bytes
    tiles: bytes

    def touched(self) -> Touched:
        """Raises ValueError where the numbers do not fit each other."""
        starts, tiles = _unpacked(self.starts), _unpacked(self.tiles)
        bad = len(starts) == 0 or starts[0] != 0 or starts[-1] != len(tiles)
        if bad or bool((np.diff(starts) < 0).any()) or bool((tiles < 0).any()):
            raise ValueError("the coverage of the steps is damaged")
        return Touched(starts, tiles)


def _packed(values: Ints) -> bytes:
    return zlib.compress(np.diff(values, prepend=0).astype(np.int32).tobytes(), 6)


def _unpacked(data: bytes) -> Ints:
    stream = zlib.decompressobj()
    try:
        numbers = stream.decompress(data, _MOST_BYTES)
    except zlib.error as error:
        raise ValueError(f"the coverage of the steps is damaged ({error})") from error
    if stream.unconsumed_tail or len(numbers) % 4:
        raise ValueError("the coverage of the steps is damaged")
    return np.cumsum(np.frombuffer(numbers, np.int32), dtype=np.int64)


def coverage_of(layers: Iterable[PassLayers], boxes: npt.NDArray[np.int64], by_box: npt.NDArray[np.bool_]) -> Coverage:
    """Of all steps, from the fragments that passed their tests. Those of `by_box`, shape (steps,), count with the whole
    of their box in `boxes`, shape (steps, 4): steps that were not counted, or may also act where no fragment of theirs
    passes.
    """
    passes = list(layers)
    found: dict[int, Ints] = {}
    for side in _SIDES:
        found = {}
        for item in passes:
            found |= _cells(item, boxes, by_box, side)
        if sum(map(len, found.values())) <= _MOST:
            break
    for step in np.flatnonzero(by_box).tolist():
        if step not in found:
            found[step] = _of_box(boxes[step], _BOX_SIDE)
    whole = Touched.each([found.get(step, np.zeros(0, np.int64)) for step in range(len(boxes))])
    return Coverage(side, _packed(whole.starts), _packed(whole.tiles))


def frame_coverage(frame: Frame, layers: Sequence[PassLayers], boxes: npt.NDArray[np.int64]) -> Coverage:
    """Of all steps of a frame. A stencil test acts where no fragment passes as well."""
    counted = np.isin(frame.passes.of_step, [item.index for item in layers if item.counted])
    return coverage_of(layers, boxes, frame.uses.stencil | ~counted)


def _cells(item: PassLayers, boxes: npt.NDArray[np.int64], by_box: npt.NDArray[np.bool_], side: int) -> dict[int, Ints]:
    """The cells of every step of a pass that was counted, at tiles of a side."""
    height, width = (-(-size // side) for size in item.shape)
    signs = np.random.default_rng(1).integers(1, 1 << 62, len(boxes))
    places = np.zeros((height, width), np.int64)
    for step, box, mask in _masks(item, boxes, by_box, side):
        places[box] ^= np.where(mask, signs[step], 0)
    _, cells = np.unique(places, return_inverse=True)
    cells = cells.reshape(height, width)
    flags = np.zeros(int(cells.max(initial=0)) + 1, bool)
    found = {}
    for step, box, mask in _masks(item, boxes, by_box, side):
        flags[cells[box][mask]] = True
        found[step] = np.flatnonzero(flags)
        flags[found[step]] = False
    return found


def _masks(
    item: PassLayers, boxes: npt.NDArray[np.int64], by_box: npt.NDArray[np.bool_], side: int
) -> Iterator[tuple[int, tuple[slice, slice], npt.NDArray[np.bool_]]]:
    """(step, the tiles in which it lies, which of them it touches) of every draw of a pass, once a step."""
    seen: set[int] = set()
    rows, columns = item.shape
    for touch in item.touches:
        if touch.step in seen or touch.kind == "clear":
            continue
        seen.add(touch.step)
        if by_box[touch.step] and item.samples == item.layers == 1:
            x0, y0, x1, y1 = np.clip(boxes[touch.step], 0, (columns, rows, columns, rows)).tolist()
            counts = np.ones((max(y1 - y0, 0), max(x1 - x0, 0)), np.uint8)
        elif by_box[touch.step]:
            y0, x0, counts = 0, 0, np.ones((rows, columns), np.uint8)
        else:
            y0, x0, counts = touch.y, touch.x, touch.counts
        if counts.size == 0:
            continue
        yield touch.step, *_in_tiles(counts, y0, x0, side)


def _in_tiles(
    counts: npt.NDArray[np.uint8], y: int, x: int, side: int
) -> tuple[tuple[slice, slice], npt.NDArray[np.bool_]]:
    height, width = counts.shape
    if side == 1:
        return (slice(y, y + height), slice(x, x + width)), counts > 0
    first_row, first_column = y // side, x // side
    rows, columns = -(-(y + height) // side) - first_row, -(-(x + width) // side) - first_column
    whole = np.zeros((rows * side, columns * side), bool)
    whole[y - first_row * side : y - first_row * side + height, x - first_column * side :][:, :width] = counts > 0
    mask = np.asarray(whole.reshape(rows, side, columns, side).any(axis=(1, 3)))
    return (slice(first_row, first_row + rows), slice(first_column, first_column + columns)), mask


def of_boxes(boxes: npt.NDArray[np.int64], side: int = _BOX_SIDE) -> Touched:
    """The tiles of boxes (x0, y0, x1, y1), shape (steps, 4)."""
    return Touched.each([_of_box(box, side) for box in boxes])


def _of_box(box: npt.NDArray[np.int64], side: int) -> Ints:
    x0, y0, x1, y1 = np.minimum(box, 1 << 14).tolist()
    if x0 >= x1 or y0 >= y1:
        return np.zeros(0, np.int64)
    rows, columns = np.arange(y0 // side, -(-y1 // side)), np.arange(x0 // side, -(-x1 // side))
    return np.asarray((rows[:, None] * _WIDE + columns[None]).ravel(), np.int64)
