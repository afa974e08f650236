"""What becomes of triangles on screen: outside the view, facing away, too small for any sample, or seen.

Exact where GL's rules are: positions are taken to sub-pixel units (1/256) as rasterisers of at least eight
sub-pixel bits do, and edge functions are whole numbers. Where an edge passes through a sample, the left and lower
edges own it; GL leaves that choice to the driver.
"""

from __future__ import annotations

from dataclasses import dataclass, fields

import numpy as np
import numpy.typing as npt

Floats = npt.NDArray[np.float64]
Ints = npt.NDArray[np.int64]
Bools = npt.NDArray[np.bool_]

SUBPIXEL = 256
FEW = 4
"""Triangles that touch at most this many samples count as touching few."""
_ROWS = 2_000_000
"""Rows of pixels gone over at a time."""


@dataclass(frozen=True)
class View:
    """The state that decides about triangles. One a step."""

    viewport: tuple[int, int, int, int]
    width: int
    height: int
    """Of the target, in pixels."""
    culls_front: bool = False
    culls_back: bool = False
    clockwise_is_front: bool = False
    upper_left: bool = False
    """Whether clip space has its origin at the upper left (glClipControl)."""
    zero_to_one: bool = False
    depth_clamp: bool = False

    @property
    def bounds(self) -> tuple[int, int, int, int]:
        """The pixels that may be drawn to: (x0, y0, x1, y1), end exclusive."""
        x, y, width, height = self.viewport
        return max(x, 0), max(y, 0), min(x + width, self.width), min(y + height, self.height)


@dataclass
class Triangles:
    """What was found out about every triangle of a step; all arrays of shape (triangles,)."""

    outside: Bools
    away: Bools
    """Culled for the way they face; not those outside."""
    empty: Bools
    """Of no area, on screen or in the data; not those outside."""
    samples: Ints
    """Pixel centres covered, before any depth test; 0 for those above."""
    partial: Bools
    """Seen, and no pixel lies wholly inside them."""
    centre: Floats
    """Middle on screen, pixels, shape (triangles, 2); NaN where not seen."""
    boxes: Ints
    """(x0, y0, x1, y1) in pixels that hold every fragment, end exclusive, shape (triangles, 4); empty where there
    is none.
    """

    def part(self, rows: slice) -> Triangles:
        """The same for some of the triangles."""
        return Triangles(*(getattr(self, f.name)[rows] for f in fields(self)))

    @property
    def box(self) -> tuple[int, int, int, int] | None:
        """What holds every fragment of all; None when there can be none."""
        drawn = self.boxes[self.boxes[:, 0] < self.boxes[:, 2]]
        if len(drawn) == 0:
            return None
        low, high = drawn[:, :2].min(axis=0).tolist(), drawn[:, 2:].max(axis=0).tolist()
        return low[0], low[1], high[0], high[1]

    @property
    def seen(self) -> Bools:
        """Those that reach rasterisation."""
        return ~(self.outside | self.away | self.empty)


def classify(clip: npt.NDArray[np.float32], view: View) -> Triangles:
    """Go over triangles that are drawn with one view; `clip` has shape (triangles, 3, 4)."""
    n = len(clip)
    corners = clip.astype(np.float64)
    planes = _distances(corners, view)
    outside = np.logical_and.reduce(planes < 0, axis=1).any(axis=1)
    assert isinstance(outside, np.ndarray)
    crossing = ~outside & (planes < 0).any(axis=(1, 2))
    # only what crosses the planes in depth, or lies far outside, has to be cut: the sides are cut by the target
    far = np.abs(corners[:, :, :2]).max(axis=(1, 2), initial=0) > 64 * np.maximum(
        corners[:, :, 3].min(axis=1, initial=np.inf), 1e-30
    )
    depth_planes = planes[:, :, 4:]
    cut = crossing & ((depth_planes < 0).any(axis=(1, 2)) | far | (corners[:, :, 3] <= 0).any(axis=1))
    away, empty = np.zeros(n, bool), np.zeros(n, bool)
    samples, partial = np.zeros(n, np.int64), np.zeros(n, bool)
    centre = np.full((n, 2), np.nan)
    whole = np.flatnonzero(~outside & ~cut)
    boxes = np.zeros((n, 4), np.int64)
    if len(whole):
        points = window_points(corners[whole], view)
        front, area = _facing(points, view)
        empty[whole] = area == 0
        away[whole] = (area != 0) & np.where(front, view.culls_front, view.culls_back)
        drawn = (area != 0) & ~away[whole]
        rows = whole[drawn]
        samples[rows], inside = cover(points[drawn], view.bounds)
        partial[rows] = inside == 0
        centre[rows] = points[drawn].mean(axis=1) / SUBPIXEL
        boxes[rows] = _boxes(points[drawn], view.bounds)
    for row in np.flatnonzero(cut).tolist():
        polygon = _clip(corners[row], view)
        if len(polygon) < 3:
            outside[row] = True
            continue
        fan = np.stack([np.stack([polygon[0], polygon[i], polygon[i + 1]]) for i in range(1, len(polygon) - 1)])
        points = window_points(fan, view)
        front, area = _facing(points, view)
        largest = int(np.argmax(np.abs(area)))
        if area[largest] == 0:
            empty[row] = True
            continue
        if view.culls_front if front[largest] else view.culls_back:
            away[row] = True
            continue
        covered, inside = cover(points[area != 0], view.bounds)
        samples[row], partial[row] = covered.sum(), inside.sum() == 0
        centre[row] = points.reshape(-1, 2).mean(axis=0) / SUBPIXEL
        boxes[row] = _boxes(points.reshape(1, -1, 2), view.bounds)
    return Triangles(outside, away, empty, samples, partial & (samples > 0), centre, boxes)


def _boxes(points: Ints, bounds: tuple[int, int, int, int]) -> Ints:
    """The pixels that each triangle touches with any part, shape (n, 4)."""
    low = np.clip(points.min(axis=1) // SUBPIXEL, bounds[:2], bounds[2:])
    high = np.clip(-(-points.max(axis=1) // SUBPIXEL), bounds[:2], bounds[2:])
    return np.concatenate([low, np.where((low < high).all(axis=1, keepdims=True), high, low)], axis=1)


def _distances(corners: Floats, view: View) -> Floats:
    """How far inside each plane of the view volume, shape (n, 3, 6): left, right, bottom, top, near, far."""
    x, y, z, w = (corners[..., i] for i in range(4))
    near = z if view.zero_to_one else z + w
    far = w - z
    if view.depth_clamp:
        near, far = w, w
    return np.stack([w + x, w - x, w + y, w - y, near, far], axis=-1)


def _clip(triangle: Floats, view: View) -> Floats:
    """The part of one triangle inside the view volume, as a polygon, shape (corners, 4) (Sutherland and Hodgman)."""
    polygon = triangle
    for plane in range(6):
        if len(polygon) == 0:
            break
        distance = _distances(polygon[None], view)[0, :, plane]
        kept = []
        for i in range(len(polygon)):
            j = (i + 1) % len(polygon)
            if distance[i] >= 0:
                kept.append(polygon[i])
            if (distance[i] >= 0) != (distance[j] >= 0):
                t = distance[i] / (distance[i] - distance[j])
                kept.append(polygon[i] + t * (polygon[j] - polygon[i]))
        polygon = np.array(kept)
    if len(polygon) and (polygon[:, 3] <= 0).any():
        return polygon[:0]
    return polygon


def _to_window(clip: Floats, view: View) -> Floats:
    """Window coordinates in pixels, shape (n, 3, 2)."""
    ndc = clip[..., :2] / clip[..., 3:4]
    if view.upper_left:
        ndc = ndc * np.array([1.0, -1.0])
    x, y, width, height = view.viewport
    return np.stack([x + (ndc[..., 0] + 1) * width / 2, y + (ndc[..., 1] + 1) * height / 2], axis=-1)


def window_points(clip: Floats, view: View) -> Ints:
    """Where corners in front of the viewer lie, in sub-pixel units, shape (n, 3, 2)."""
    return _snap(_to_window(clip, view))


def _snap(points: Floats) -> Ints:
    limit = float(1 << 21)
    return np.rint(np.clip(np.nan_to_num(points), -limit, limit) * SUBPIXEL).astype(np.int64)


def _facing(points: Ints, view: View) -> tuple[Bools, Ints]:
    """(whether it faces front, twice its signed area) of each."""
    a, b, c = points[:, 0], points[:, 1], points[:, 2]
    area = (b[:, 0] - a[:, 0]) * (c[:, 1] - a[:, 1]) - (b[:, 1] - a[:, 1]) * (c[:, 0] - a[:, 0])
    clockwise = (area < 0) != view.upper_left
    return clockwise == view.clockwise_is_front, area


def cover(points: Ints, bounds: tuple[int, int, int, int]) -> tuple[Ints, Ints]:
    """(pixel centres covered, pixels wholly inside) of each triangle, two arrays of shape (n,).

    `points` are in sub-pixel units, shape (n, 3, 2), of either winding; `bounds` are (x0, y0, x1, y1), end exclusive.
    """
    left, bottom, right, top = bounds
    area = (points[:, 1, 0] - points[:, 0, 0]) * (points[:, 2, 1] - points[:, 0, 1]) - (
        points[:, 1, 1] - points[:, 0, 1]
    ) * (points[:, 2, 0] - points[:, 0, 0])
    ordered = np.where((area < 0)[:, None, None], points[:, ::-1], points) - SUBPIXEL // 2
    first = np.maximum(-(-ordered[:, :, 1].min(axis=1) // SUBPIXEL), bottom)
    last = np.minimum(ordered[:, :, 1].max(axis=1) // SUBPIXEL, top - 1)
    rows = np.maximum(last - first + 1, 0)
    covered, inside = np.zeros(len(points), np.int64), np.zeros(len(points), np.int64)
    ends = np.cumsum(rows)
    begin = 0
    while begin < len(points):
        end = int(np.searchsorted(ends, (ends[begin - 1] if begin else 0) + _ROWS, side="right"))
        end = max(end, begin + 1)
        part = slice(begin, end)
        count = rows[part]
        owner = np.repeat(np.arange(begin, end), count)
        within = np.arange(len(owner)) - np.repeat(np.cumsum(count) - count, count)
        y = (first[owner] + within) * SUBPIXEL
        for inset, total in ((False, covered), (True, inside)):
            low, high = _row_range(ordered, owner, y, inset)
            pixels = np.minimum(high, right - 1) - np.maximum(low, left) + 1
            total[part] = np.bincount(owner - begin, np.maximum(pixels, 0), end - begin).astype(np.int64)
        begin = end
    return covered, inside


_FAR = 1 << 40


def _row_range(points: Ints, owner: Ints, y: Ints, inset: bool) -> tuple[Ints, Ints]:
    """First and last pixel of one row inside each triangle; `inset` asks for whole pixels instead of centres."""
    low, high = np.full(len(owner), -_FAR), np.full(len(owner), _FAR)
    for k in range(3):
        a, b = points[owner, k], points[owner, (k + 1) % 3]
        dx, dy = b[:, 0] - a[:, 0], b[:, 1] - a[:, 1]
        # inside: dx * (y - ay) - dy * (x - ax) >= 0
        edge = dx * (y - a[:, 1]) + dy * a[:, 0]
        if inset:
            edge = edge - SUBPIXEL // 2 * (np.abs(dx) + np.abs(dy))
        step = np.abs(dy) * SUBPIXEL
        safe = np.maximum(step, 1)
        # going up the inside is to the left of the edge; its samples belong to the right-hand neighbour
        end = edge // safe if inset else -(-edge // safe) - 1
        high = np.where(dy > 0, np.minimum(high, end), high)
        low = np.where(dy < 0, np.maximum(low, -(edge // safe)), low)
        # a level edge: lower edges (dx > 0) own their samples, upper ones do not
        misses = (dy == 0) & np.where(dx > 0, edge < 0, edge <= 0 if not inset else edge < 0)
        high = np.where(misses, -_FAR, high)
    return low, high
