"""What was drawn for nothing, step by step: the record that the measurement fills and the findings read."""

from __future__ import annotations

import contextlib
import dataclasses
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

import msgspec
import numpy as np
import numpy.typing as npt

from wendascope.analysis.draws.coverage import Coverage, of_boxes
from wendascope.analysis.draws.draw_order import Touched
from wendascope.analysis.geometry.triangles import Triangles
from wendascope.frame.layers import PassLayers, Touch, layer_map, owner_map, step_layers

if TYPE_CHECKING:
    from wendascope.frame.frame import Frame

HISTOGRAM = 16
"""The last entry of a histogram of layers holds this many and more."""
_TILE = 32


class Area(msgspec.Struct):
    """A part of a target that many layers were drawn on; pixels, y from the bottom."""

    x: int
    y: int
    width: int
    height: int
    layers: float


class PassDrawn(msgspec.Struct):
    """Overdraw of one pass. On a multisampled target fragments are samples."""

    index: int
    covered: int
    """Places that anything was drawn to."""
    average: float
    """Layers at a covered place."""
    most: int
    histogram: list[int]
    """Places with 0, 1, 2, ... layers."""
    fragments: int
    survivors: int
    idle: int
    worst: list[Area]
    visible: int
    """Places that a step of the pass owns in the end."""
    caveats: list[str]

    @property
    def wasted(self) -> int:
        """Fragments covered later, and blended ones that changed nothing."""
        return self.fragments - self.survivors + self.idle

    @property
    def wasted_share(self) -> float:
        return self.wasted / self.fragments if self.fragments else 0.0


class StepDrawn(msgspec.Struct, array_like=True):
    """What one step drew. Counts of -1 are not known."""

    kind: str = ""
    """`opaque`, `blended`, `depth` or `clear`; empty where nothing was counted. The survivors of a clear are the
    pixels that show it, or that something blends with before they are covered."""
    fragments: int = -1
    survivors: int = -1
    idle: int = -1
    rejected: int = -1
    """Fragments that the depth test rejected; only known where an early test was prevented."""
    triangles: int = -1
    outside: int = -1
    away: int = -1
    empty: int = -1
    no_sample: int = -1
    few: int = -1
    partial: int = -1
    degenerate: int = -1
    """Two corners in one place in the data."""
    duplicates: int = -1
    """The same three corners as an earlier triangle of the step."""
    covered: int = -1
    """Samples that its triangles cover, before any test."""
    transformed: int = -1
    """Vertices run through the vertex stages, by the cache model."""
    vertex_ms: float | None = None
    """Time of the step with rasterisation off; None where it was not measured."""
    depth: float | None = None
    """Middle of its seen triangles in depth, 0 near to 1 far; None where unknown."""
    box: tuple[int, int, int, int] | None = None
    """Where it lies on its target: (x0, y0, x1, y1), y from the bottom."""
    depth_test: bool = False
    depth_write: bool = False
    depth_func: int = 0
    early: bool = True
    """Whether the depth test may be done before its fragment shader."""
    vertices_run: int = -1
    """Vertex shaders run, as the driver counts."""
    stencil: bool = False
    """Whether the stencil test is on: it may write stencil where no fragment passes."""
    effects: bool = False
    """Whether it does more than draw: writes images or buffers, is counted by a query, or is fed back."""
    scissored: bool = False
    """Whether the scissor leaves nothing of it."""
    one_depth: bool = False
    """Whether all of its seen triangles lie at `depth`."""
    effect: tuple[int, int, int, int] | None = None
    """Of a blended step, where it changes a colour, as `box`; empty for nowhere, None where that is not known."""
    shaded: int = -1
    """Fragments that its shader ran for, as the driver counts: in groups, some of them outside of its triangles."""

    @property
    def wasted(self) -> int:
        """Fragments covered later, and blended ones that changed nothing."""
        return max(self.fragments - self.survivors, 0) + max(self.idle, 0) if self.fragments > 0 else 0

    @property
    def wasted_share(self) -> float:
        return self.wasted / self.fragments if self.fragments > 0 else 0.0

    @property
    def drawn(self) -> int:
        """Triangles that reach rasterisation; -1 where not known."""
        return -1 if self.triangles < 0 else self.triangles - self.outside - self.away - self.empty


class Drawn(msgspec.Struct):
    """Overdraw and geometry of a frame."""

    steps: list[StepDrawn]
    passes: list[PassDrawn]
    caveats: list[str]
    seconds: float = 0.0
    mismatched: int = 0
    """Steps whose counted fragments differ from the driver's own count."""
    coverage: Coverage | None = None
    """The cells that each step reaches; None in files of before they were kept."""

    def fits(self, frame: Frame) -> bool:
        """Whether it can be of that frame."""
        return len(self.steps) == len(frame.steps) and [p.index for p in self.passes] == list(range(len(frame.passes)))


def touched_of(drawn: Drawn | None) -> Touched | None:
    """What lies where on its target, as closely as it was measured; None before that."""
    if drawn is None or not drawn.steps:
        return None
    if drawn.coverage is not None:
        with contextlib.suppress(ValueError):  # damaged: boxes tell less, and nothing false
            touched = drawn.coverage.touched()
            if len(touched.starts) == len(drawn.steps) + 1:
                return touched
    return of_boxes(step_boxes(drawn))


def step_boxes(drawn: Drawn) -> npt.NDArray[np.int64]:
    """Where on its target each step lies, shape (steps, 4): (x0, y0, x1, y1), as `boxes_of_triangles` says."""
    return np.array([_box(row.box, row.triangles >= 0) for row in drawn.steps], np.int64).reshape(len(drawn.steps), 4)


def boxes_of_triangles(triangles: Mapping[int, Triangles], steps: int) -> npt.NDArray[np.int64]:
    """The same from the triangles of each step: everywhere where those are not known, nowhere where none is drawn."""
    return np.array(
        [_box(triangles[s].box if s in triangles else None, s in triangles) for s in range(steps)], np.int64
    ).reshape(steps, 4)


def _box(box: tuple[int, int, int, int] | None, known: bool) -> tuple[int, int, int, int]:
    return box or ((0, 0, 0, 0) if known else (0, 0, 1 << 30, 1 << 30))


def pass_drawn(item: PassLayers) -> PassDrawn:
    """Sum up the layers of one pass. In one with colour, steps that write depth alone shade nothing: they make no
    layers.
    """
    if item.colour:
        item = dataclasses.replace(item, touches=[t for t in item.touches if t.kind != "depth"])
    layers = layer_map([item])
    covered = layers > 0
    owned = int((owner_map([item]) >= 0).sum())
    counts = step_layers(item).values()
    return PassDrawn(
        index=item.index, covered=int(covered.sum()), average=float(layers[covered].mean()) if covered.any() else 0.0,
        most=int(layers.max(initial=0)), histogram=histogram(layers), fragments=sum(c.fragments for c in counts),
        survivors=sum(c.survivors for c in counts), idle=sum(c.idle for c in counts),
        worst=worst_areas(item.per_pixel(layers.astype(np.float64))), visible=owned, caveats=item.caveats,
    )  # fmt: skip


def histogram(layers: npt.NDArray[Any]) -> list[int]:
    """Places by the fragments written there: 0, 1, ... up to HISTOGRAM, which stands for that many and more."""
    return [
        int(v) for v in np.bincount(np.minimum(layers.ravel(), HISTOGRAM).astype(np.int64), minlength=HISTOGRAM + 1)
    ]


def worst_areas(layers: npt.NDArray[np.float64], many: int = 3) -> list[Area]:
    """The squares with the most layers on average, none next to another."""
    height, width = layers.shape
    rows, columns = -(-height // _TILE), -(-width // _TILE)
    if rows == 0 or columns == 0:
        return []
    padded = np.zeros((rows * _TILE, columns * _TILE))
    padded[:height, :width] = layers
    size = np.zeros_like(padded)
    size[:height, :width] = 1
    shape = (rows, _TILE, columns, _TILE)
    means = padded.reshape(shape).sum(axis=(1, 3)) / size.reshape(shape).sum(axis=(1, 3))
    found: list[Area] = []
    for at in np.argsort(-means, axis=None, kind="stable")[: 64 * many].tolist():
        row, column = divmod(at, columns)
        if means[row, column] <= 1 or len(found) == many:
            break
        if all(abs(a.x // _TILE - column) > 1 or abs(a.y // _TILE - row) > 1 for a in found):
            found.append(
                Area(
                    column * _TILE,
                    row * _TILE,
                    min(_TILE, width - column * _TILE),
                    min(_TILE, height - row * _TILE),
                    float(means[row, column]),
                )
            )
    return found


def clear_survivors(item: PassLayers, clear: Touch) -> int:
    """Pixels of a clear that are seen, or blended with, before an opaque step covers them."""
    waiting = np.ones(clear.counts.shape, bool)
    seen = 0
    read = min((step for step in item.reads if step > clear.step), default=None)
    for touch in item.touches:
        if touch.step <= clear.step:
            continue
        if read is not None and touch.step >= read:
            break  # what is left of it is read
        rows = slice(max(touch.y - clear.y, 0), max(touch.y + touch.counts.shape[0] - clear.y, 0))
        columns = slice(max(touch.x - clear.x, 0), max(touch.x + touch.counts.shape[1] - clear.x, 0))
        mine = waiting[rows, columns]
        theirs = (
            touch.counts[max(clear.y - touch.y, 0) :, max(clear.x - touch.x, 0) :][: mine.shape[0], : mine.shape[1]] > 0
        )
        if mine.size == 0 or theirs.size == 0:
            continue
        if not item.covers(touch) and touch.kind == "blended":
            seen += int((mine & theirs).sum())
        if item.covers(touch) or touch.kind == "blended":
            mine[theirs] = False
    return seen + int(waiting.sum())
