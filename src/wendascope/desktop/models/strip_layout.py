"""Geometry of the frame strip: from times to pixels and back, without Qt."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from wendascope.desktop.models.tree import FrameTree, Node
from wendascope.frame.cpu import CpuLane
from wendascope.frame.numbers import Ints

Floats = npt.NDArray[np.float64]


@dataclass
class View:
    """The stretch of time that fills the strip."""

    start: float
    end: float
    width: float

    @property
    def scale(self) -> float:
        """Pixels a millisecond."""
        return self.width / max(self.end - self.start, 1e-9)

    def x(self, ms: float) -> float:
        return (ms - self.start) * self.scale

    def ms(self, x: float) -> float:
        return self.start + x / self.scale

    def zoomed(self, x: float, factor: float, full: float) -> View:
        """Closer by `factor`, with what is at `x` staying there; never wider than the whole."""
        at = self.ms(x)
        length = min(max((self.end - self.start) / factor, full * 1e-5), full)
        start = min(max(at - (at - self.start) * length / (self.end - self.start), 0.0), full - length)
        return View(start, start + length, self.width)

    def moved(self, pixels: float, full: float) -> View:
        length = self.end - self.start
        start = min(max(self.start - pixels / self.scale, 0.0), max(full - length, 0.0))
        return View(start, start + length, self.width)


@dataclass
class StripTimes:
    """Where groups and steps begin and end, in milliseconds, and whether that was measured.

    Passes follow one another by their own times; inside a pass its steps share the pass's width as they share the sum
    of their times alone. Other groups have the width of their steps, the widest first. Before a survey every step is
    one unit wide.
    """

    groups: list[Node]
    """In the order of the strip."""
    group_start: Floats
    group_end: Floats
    order: Ints
    """Steps in the order of the strip."""
    step_start: Floats
    step_end: Floats
    """Of every step, in the order of the frame."""
    group_of: Ints
    """Of every step, the place of its group in the strip."""
    measured: bool

    @property
    def total(self) -> float:
        return float(self.group_end[-1]) if len(self.group_end) else 1.0


def strip_times(tree: FrameTree) -> StripTimes:
    """Where the outermost rows of a tree and their steps begin and end on the strip."""
    widths = _step_widths(tree)
    groups = list(tree.outermost)
    if groups and groups[0].kind != "pass":
        groups.sort(key=lambda node: -float(widths[node.steps].sum()))
    sizes = np.array([widths[node.steps].sum() for node in groups])
    group_end = np.cumsum(sizes)
    order = np.concatenate([node.steps for node in groups]) if groups else np.zeros(0, np.int64)
    start, end = np.zeros(len(order)), np.zeros(len(order))
    edges = np.cumsum(widths[order])
    start[order], end[order] = edges - widths[order], edges
    group_of = np.zeros(len(order), np.int64)
    group_of[order] = np.repeat(np.arange(len(groups)), [len(node.steps) for node in groups])
    return StripTimes(groups, group_end - sizes, group_end, order, start, end, group_of, tree.survey is not None)


def _step_widths(tree: FrameTree) -> Floats:
    """How wide each step is: its part of its pass's time; one where nothing was measured."""
    frame, survey = tree.frame, tree.survey
    if survey is None:
        return np.ones(len(frame.steps))
    alone, widths = np.array(survey.steps.ms), np.zeros(len(frame.steps))
    for index, (a, b) in enumerate(zip(frame.passes.first.tolist(), frame.passes.end.tolist(), strict=True)):
        total, whole = alone[a:b].sum(), survey.passes[index].ms
        widths[a:b] = alone[a:b] * (whole / total) if total > 0 else whole / max(b - a, 1)
    return widths


def step_at(times: StripTimes, ms: float) -> int | None:
    """The step drawn at a place of the strip, or None outside of it."""
    if len(times.order) == 0 or not 0 <= ms <= times.total:
        return None
    ends = times.step_end[times.order]
    return int(times.order[min(int(np.searchsorted(ends, ms, side="left")), len(ends) - 1)])


def group_at(times: StripTimes, ms: float) -> int | None:
    """The group at a place of the strip, by its place there, or None beyond its ends."""
    if len(times.group_end) == 0 or not 0 <= ms <= times.total:
        return None
    return min(int(np.searchsorted(times.group_end, ms, side="left")), len(times.group_end) - 1)


def ruler_ticks(view: View, apart: float = 90.0) -> list[float]:
    """Round times about `apart` pixels from one another."""
    rough = apart / view.scale
    power = 10.0 ** np.floor(np.log10(max(rough, 1e-9)))
    unit = next((m * power for m in (1, 2, 5, 10) if m * power >= rough), 10 * power)
    first = np.ceil(view.start / unit)
    last = np.floor(view.end / unit)
    return [float(k * unit) for k in np.arange(first, last + 1)]


def cpu_columns(lane: CpuLane, view: View) -> tuple[Floats, Floats]:
    """Share of each pixel column that was spent in calls and in waits, shape (width,), 0 to 1."""
    columns = max(int(view.width), 1)
    edges = np.linspace(view.start, view.end, columns + 1)
    width = edges[1] - edges[0]

    def covered(begin: Floats, end: Floats) -> Floats:
        # how much of (-inf, t] lies inside the intervals, which do not overlap
        order = np.argsort(begin)
        b, e = begin[order], end[order]
        before = np.concatenate([[0.0], np.cumsum(e - b)])
        index = np.searchsorted(b, edges, side="right")
        partial = np.where(index > 0, np.minimum(e[index - 1], edges) - b[index - 1] if len(b) else 0.0, 0.0)
        up_to = np.where(index > 0, before[np.maximum(index - 1, 0)] + partial, 0.0)
        return np.asarray(np.clip(np.diff(up_to) / max(width, 1e-12), 0.0, 1.0))

    if len(lane.begin) == 0:
        return np.zeros(columns), np.zeros(columns)
    calls = ~lane.waits
    return covered(lane.begin[calls], lane.end[calls]), covered(lane.begin[lane.waits], lane.end[lane.waits])
