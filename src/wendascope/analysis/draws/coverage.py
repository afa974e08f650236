"""Which parts of its target each step touches: what decides whether two steps may change places.

Parts are cells: all places of a target that the same steps touch are one. So the numbers stay few where little
overlaps, and nothing is lost; where too much does, places are put together to tiles first.
"""

from __future__ import annotations

import functools
import zlib
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass

import msgspec
import numpy as np
import numpy.typing as npt

from wendascope.analysis.draws.draw_order import Touched
from wendascope.frame.frame import Frame
from wendascope.frame.layers import PassLayers, Touch, extent
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
    tie_starts: bytes = b""
    """The same of the cells in which opaque fragments of one depth meet; empty in files of before they were counted."""
    tie_tiles: bytes = b""

    def touched(self) -> Touched:
        """Raises ValueError where the numbers do not fit each other."""
        touched = _checked(self.starts, self.tiles)
        if not self.tie_starts:
            return touched
        ties = _checked(self.tie_starts, self.tie_tiles)
        if len(ties.starts) != len(touched.starts):
            raise ValueError("the coverage of the steps is damaged")
        return touched.with_strict(ties)


def _checked(packed_starts: bytes, packed_tiles: bytes) -> Touched:
    starts, tiles = _unpacked(packed_starts), _unpacked(packed_tiles)
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


@dataclass(frozen=True)
class DepthTouches:
    """What depth tests decide, beside the fragments that pass; pass -> touches, at most one for each step."""

    ties: Mapping[int, Sequence[Touch]]
    """Where the depth of opaque steps is the one that was there before them."""
    rejected: Mapping[int, Sequence[Touch]]
    """Where a depth test rejected a step's fragments, of steps that `hiders` may hide."""
    hiders: npt.NDArray[np.bool_]
    """Steps that write depth without covering what lies behind, shape (steps,)."""

    @classmethod
    def none(cls, steps: int) -> DepthTouches:
        return cls({}, {}, np.zeros(steps, bool))


def coverage_of(
    layers: Iterable[PassLayers], boxes: npt.NDArray[np.int64], by_box: npt.NDArray[np.bool_], depth: DepthTouches
) -> Coverage:
    """Of all steps, from the fragments that passed their tests, or that only a hider kept from it. Those of `by_box`,
    shape (steps,), count with the whole of their box in `boxes`, shape (steps, 4): steps that were not counted, or may
    also act where no fragment of theirs passes.
    """
    passes = list(layers)
    side, found = _fewest(passes, len(boxes), lambda item, side: _masks(item, boxes, by_box, depth, side))
    for step in np.flatnonzero(by_box).tolist():
        if step not in found:
            found[step] = _of_box(boxes[step], _BOX_SIDE)
    whole = _of_steps(found, len(boxes))
    _, tied = _fewest(passes, len(boxes), lambda item, side: _tie_masks(item, depth.ties.get(item.index, ()), side))
    strict = _of_steps(tied, len(boxes))
    return Coverage(side, _packed(whole.starts), _packed(whole.tiles), _packed(strict.starts), _packed(strict.tiles))


def _fewest(
    passes: Sequence[PassLayers], steps: int, masks: Callable[[PassLayers, int], _Masks]
) -> tuple[int, dict[int, Ints]]:
    """(side of the tiles, cells of every step) of all passes, at the first side at which they are no more than the
    most.
    """
    found: dict[int, Ints] = {}
    for side in _SIDES:
        found = {}
        for item in passes:
            found |= _cells(item, functools.partial(masks, item, side), steps, side)
        if sum(map(len, found.values())) <= _MOST:
            break
    return side, found


def _of_steps(cells: dict[int, Ints], steps: int) -> Touched:
    return Touched.each([cells.get(step, np.zeros(0, np.int64)) for step in range(steps)])


def frame_coverage(
    frame: Frame, layers: Sequence[PassLayers], boxes: npt.NDArray[np.int64], depth: DepthTouches
) -> Coverage:
    """Of all steps of a frame. A stencil test acts where no fragment passes as well."""
    counted = np.isin(frame.passes.of_step, [item.index for item in layers if item.counted])
    return coverage_of(layers, boxes, frame.uses.stencil | ~counted, depth)


_Masks = Iterator[tuple[int, tuple[slice, slice], npt.NDArray[np.bool_]]]
"""(step, the tiles in which it lies, which of them it touches)."""


def _cells(item: PassLayers, masks: Callable[[], _Masks], steps: int, side: int) -> dict[int, Ints]:
    """All places that the same steps touch as one cell: step -> its cells."""
    height, width = (-(-size // side) for size in item.shape)
    signs = np.random.default_rng(1).integers(1, 1 << 62, steps)
    places = np.zeros((height, width), np.int64)
    for step, box, mask in masks():
        places[box] ^= np.where(mask, signs[step], 0)
    touched = np.flatnonzero(places)  # a target is mostly larger than what is drawn into it
    cells = np.zeros((height, width), np.int32)
    _, numbers = np.unique(places.ravel()[touched], return_inverse=True)
    cells.ravel()[touched] = numbers.reshape(-1)
    flags = np.zeros(int(cells.max(initial=0)) + 1, bool)
    found = {}
    for step, box, mask in masks():
        flags[cells[box][mask]] = True
        found[step] = np.flatnonzero(flags)
        flags[found[step]] = False
    return found


def _tie_masks(item: PassLayers, touches: Sequence[Touch], side: int) -> _Masks:
    """Of the places at which opaque fragments of one depth meet, those that each opaque step touches, or that only
    its depth, equal to what was there, keeps it from.
    """
    if not touches:
        return
    meeting = np.zeros(item.shape, bool)
    for tie in touches:
        meeting[tie.box] |= tie.counts > 0
    ties = {tie.step: tie for tie in touches}
    kinds = {touch.step: touch for touch in item.touches if touch.kind in ("opaque", "depth")}
    for step in sorted({*ties, *kinds}):
        y, x, mask = _together(ties.get(step), kinds.get(step))
        height, width = mask.shape
        mask &= meeting[y : y + height, x : x + width]
        y, x, counts = _cut(mask, y, x)
        if counts.size:
            yield step, *_in_tiles(counts, y, x, side)


def _masks(
    item: PassLayers, boxes: npt.NDArray[np.int64], by_box: npt.NDArray[np.bool_], depth: DepthTouches, side: int
) -> _Masks:
    """Of every draw of a pass, once a step."""
    rows, columns = item.shape
    touches: dict[int, Touch] = {}
    for touch in item.touches:
        if touch.kind != "clear":
            touches.setdefault(touch.step, touch)
    rejected = {touch.step: touch for touch in depth.rejected.get(item.index, ())}
    hidden = np.zeros(item.shape if rejected else (0, 0), bool)
    for touch in touches.values() if rejected else ():
        if depth.hiders[touch.step]:
            hidden[touch.box] |= touch.counts > 0
    for step in sorted({*touches, *rejected}):
        if by_box[step] and item.samples == item.layers == 1:
            x0, y0, x1, y1 = np.clip(boxes[step], 0, (columns, rows, columns, rows)).tolist()
            counts = np.ones((max(y1 - y0, 0), max(x1 - x0, 0)), np.uint8)
        elif by_box[step]:
            y0, x0, counts = 0, 0, np.ones((rows, columns), np.uint8)
        elif step in rejected:
            lost = rejected[step]
            hidden_there = Touch(step, lost.kind, lost.x, lost.y, lost.counts * hidden[lost.box])
            y0, x0, mask = _together(hidden_there, touches.get(step))
            y0, x0, counts = _cut(mask, y0, x0)
        else:
            y0, x0, counts = touches[step].y, touches[step].x, touches[step].counts
        if counts.size:
            yield step, *_in_tiles(counts, y0, x0, side)


def _together(*touches: Touch | None) -> tuple[int, int, npt.NDArray[np.bool_]]:
    """(y, x, where any of some touches is, within the box that holds them)."""
    found = [touch for touch in touches if touch is not None]
    boxes = [touch.box for touch in found]
    y0, x0 = min(rows.start for rows, _ in boxes), min(columns.start for _, columns in boxes)
    y1, x1 = max(rows.stop for rows, _ in boxes), max(columns.stop for _, columns in boxes)
    mask = np.zeros((y1 - y0, x1 - x0), bool)
    for touch, (rows, columns) in zip(found, boxes, strict=True):
        mask[rows.start - y0 : rows.stop - y0, columns.start - x0 : columns.stop - x0] |= touch.counts > 0
    return y0, x0, mask


def _cut(mask: npt.NDArray[np.bool_], y: int, x: int) -> tuple[int, int, npt.NDArray[np.uint8]]:
    """(y, x, counts) of the part of a mask at a place in which anything is set."""
    box = extent(mask)
    if box is None:
        return 0, 0, np.zeros((0, 0), np.uint8)
    return y + int(box[0].start), x + int(box[1].start), mask[box].astype(np.uint8)


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


def shares_pixels(boxes: npt.NDArray[np.int64], width: int, height: int) -> npt.NDArray[np.bool_]:
    """Which of some boxes (x0, y0, x1, y1) on a target of this size share a pixel with another, shape (boxes,)."""
    x0, y0, x1, y1 = np.clip(boxes.T, 0, np.array([width, height, width, height])[:, None])
    x1, y1 = np.maximum(x0, x1), np.maximum(y0, y1)
    edges = np.zeros((height + 1, width + 1), np.int64)
    for rows, columns, by in ((y0, x0, 1), (y1, x1, 1), (y0, x1, -1), (y1, x0, -1)):
        np.add.at(edges, (rows, columns), by)
    several = edges.cumsum(axis=0).cumsum(axis=1)[:height, :width] > 1
    before = np.zeros((height + 1, width + 1), np.int64)
    before[1:, 1:] = several.cumsum(axis=0).cumsum(axis=1)
    return np.asarray(before[y1, x1] - before[y0, x1] - before[y1, x0] + before[y0, x0] > 0)


def of_boxes(boxes: npt.NDArray[np.int64], side: int = _BOX_SIDE) -> Touched:
    """The tiles of boxes (x0, y0, x1, y1), shape (steps, 4)."""
    return Touched.each([_of_box(box, side) for box in boxes])


def _of_box(box: npt.NDArray[np.int64], side: int) -> Ints:
    x0, y0, x1, y1 = np.minimum(box, 1 << 14).tolist()
    if x0 >= x1 or y0 >= y1:
        return np.zeros(0, np.int64)
    rows, columns = np.arange(y0 // side, -(-y1 // side)), np.arange(x0 // side, -(-x1 // side))
    return np.asarray((rows[:, None] * _WIDE + columns[None]).ravel(), np.int64)
