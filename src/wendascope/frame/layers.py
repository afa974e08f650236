"""Layers, owners and survivors of a pass, from what each step touched."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from typing import Literal

import numpy as np
import numpy.typing as npt

Counts = npt.NDArray[np.uint8]
Kind = Literal["opaque", "blended", "depth", "clear"]
"""What a step does to colour: replaces it, mixes with it, leaves it alone (depth or stencil only), or fills it."""


@dataclass
class Touch:
    """The fragments of one step that passed all tests, within the box that they lie in.

    On a multisampled target the unit is the sample, and columns of `counts` are pixel x times samples plus sample;
    on a layered one rows are layer times height plus y. The box is in these units.
    """

    step: int
    kind: Kind
    x: int
    y: int
    counts: Counts
    """Shape (h, w), bottom row first."""
    changed: npt.NDArray[np.bool_] | None = None
    """Where a blended step changed any colour buffer, in the same box; None where that is not known."""

    @property
    def box(self) -> tuple[slice, slice]:
        h, w = self.counts.shape
        return slice(self.y, self.y + h), slice(self.x, self.x + w)


@dataclass
class PassLayers:
    """Everything that was drawn in one pass."""

    index: int
    width: int
    height: int
    samples: int = 1
    layers: int = 1
    colour: bool = True
    """Whether the pass has colour to write; in one without, the nearest depth counts as seen."""
    touches: list[Touch] = field(default_factory=list)
    caveats: list[str] = field(default_factory=list)
    reads: list[int] = field(default_factory=list)
    """Steps before which the target is read: what is there by then is seen."""
    counted: bool = True
    """False where the pass could not be counted; a caveat says why."""

    @property
    def shape(self) -> tuple[int, int]:
        """Of the maps: rows are layers times height, columns pixels times samples."""
        return self.layers * self.height, self.width * self.samples

    def covers(self, touch: Touch) -> bool:
        """Whether what a step draws hides what was drawn before it."""
        return touch.kind in (("opaque", "clear") if self.colour else ("opaque", "depth", "clear"))

    def per_pixel(self, values: npt.NDArray[np.float64]) -> npt.NDArray[np.float64]:
        """A map in samples as a map in pixels: the mean of each pixel's samples."""
        if self.samples == 1:
            return values
        return np.asarray(values.reshape(len(values), self.width, self.samples).mean(axis=2))


@dataclass
class StepLayers:
    """The fragments of one step, counted."""

    fragments: int
    survivors: int
    """Not covered by a later opaque step of the pass."""
    idle: int
    """Of the survivors of a blended step, those that changed no colour."""
    effect: tuple[int, int, int, int] | None = None
    """Where a blended step changed colours, in pixels: (x0, y0, x1, y1), empty for nowhere; None where not known."""

    @property
    def wasted(self) -> int:
        return self.fragments - self.survivors + self.idle


def layer_map(passes: Iterable[PassLayers], until: int | None = None) -> npt.NDArray[np.uint32]:
    """Fragments at each place over some passes into the same target, up to and with step `until`; shape of the
    passes.
    """
    total: npt.NDArray[np.uint32] | None = None
    for item in passes:
        if total is None:
            total = np.zeros(item.shape, np.uint32)
        for touch in item.touches:
            if touch.kind != "clear" and (until is None or touch.step <= until):
                total[touch.box] += touch.counts
    return np.zeros((0, 0), np.uint32) if total is None else total


def owner_map(passes: Iterable[PassLayers], until: int | None = None) -> npt.NDArray[np.int32]:
    """The step whose fragment is the ground that is seen: the last opaque one; -1 where there is none."""
    owner: npt.NDArray[np.int32] | None = None
    for item in passes:
        if owner is None:
            owner = np.full(item.shape, -1, np.int32)
        for touch in item.touches:
            if item.covers(touch) and (until is None or touch.step <= until):
                owner[touch.box][touch.counts > 0] = touch.step if touch.kind != "clear" else -1
    return np.zeros((0, 0), np.int32) if owner is None else owner


def step_layers(item: PassLayers) -> dict[int, StepLayers]:
    """Fragments, survivors and idle fragments of every step of a pass."""
    found: dict[int, StepLayers] = {}
    for touches in _until_reads(item):
        found |= _survivors(item, touches)
    return found


def _until_reads(item: PassLayers) -> Iterator[list[Touch]]:
    """The touches of a pass in runs, each of which ends where the target is read."""
    run: list[Touch] = []
    reads = sorted(item.reads)
    for touch in item.touches:
        while reads and reads[0] <= touch.step:
            reads.pop(0)
            yield run
            run = []
        run.append(touch)
    yield run


def _survivors(item: PassLayers, touches: list[Touch]) -> dict[int, StepLayers]:
    last = np.full(item.shape, -1, np.int32)
    for touch in touches:
        if item.covers(touch):
            last[touch.box][touch.counts > 0] = touch.step
    found = {}
    for touch in touches:
        if touch.kind == "clear":
            continue
        counts = touch.counts
        cover = last[touch.box]
        fragments = int(counts.sum(dtype=np.int64))
        if item.covers(touch):
            # of several fragments of the step itself only the last is seen
            found[touch.step] = StepLayers(fragments, int(np.count_nonzero((cover == touch.step) & (counts > 0))), 0)
            continue
        alive = cover < touch.step
        survivors = int(counts[alive].sum(dtype=np.int64))
        idle, effect = 0, None
        if touch.changed is not None:
            idle = int(counts[alive & ~touch.changed].sum(dtype=np.int64))
            effect = _effect(touch, touch.changed) if item.samples == item.layers == 1 else None
        found[touch.step] = StepLayers(fragments, survivors, idle, effect)
    return found


def _effect(touch: Touch, changed: npt.NDArray[np.bool_]) -> tuple[int, int, int, int]:
    found = extent(changed & (touch.counts > 0))
    if found is None:
        return 0, 0, 0, 0
    rows, columns = found
    return touch.x + columns.start, touch.y + rows.start, touch.x + columns.stop, touch.y + rows.stop


def extent(mask: npt.NDArray[np.bool_]) -> tuple[slice, slice] | None:
    """(rows, columns) of the smallest rectangle that holds all that is set; None where nothing is."""
    rows, columns = np.flatnonzero(mask.any(axis=1)), np.flatnonzero(mask.any(axis=0))
    if len(rows) == 0:
        return None
    return slice(int(rows[0]), int(rows[-1]) + 1), slice(int(columns[0]), int(columns[-1]) + 1)
