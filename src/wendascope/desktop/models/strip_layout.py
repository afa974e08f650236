"""Geometry of the frame strip: from times to pixels and back, without Qt."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from wendascope.frame.cpu import CpuLane
from wendascope.frame.frame import Frame
from wendascope.measure.records import Survey

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
    """Where passes and steps begin and end, in milliseconds, and whether that was measured.

    Passes follow one another by their own times. Inside a pass its steps share the pass's width as they
    share the sum of their times alone. Before a survey every step is one unit wide.
    """

    pass_start: Floats
    pass_end: Floats
    step_start: Floats
    step_end: Floats
    measured: bool

    @property
    def total(self) -> float:
        return float(self.pass_end[-1]) if len(self.pass_end) else 1.0


def strip_times(frame: Frame, survey: Survey | None) -> StripTimes:
    """Where passes and steps begin and end on the strip, in ms; unmeasured steps count alike."""
    passes, n = frame.passes, len(frame.steps)
    if survey is None:
        edges = np.arange(n + 1, dtype=np.float64)
        return StripTimes(edges[passes.first], edges[passes.end], edges[:-1], edges[1:], False)
    widths = np.array([p.ms for p in survey.passes])
    pass_end = np.cumsum(widths)
    pass_start = pass_end - widths
    alone = np.array(survey.steps.ms)
    start, end = np.zeros(n), np.zeros(n)
    for i, (a, b) in enumerate(zip(passes.first.tolist(), passes.end.tolist(), strict=True)):
        total = alone[a:b].sum()
        edges = np.concatenate([[0.0], np.cumsum(alone[a:b])]) / total if total > 0 else np.linspace(0, 1, b - a + 1)
        edges = pass_start[i] + edges * widths[i]
        start[a:b], end[a:b] = edges[:-1], edges[1:]
    return StripTimes(pass_start, pass_end, start, end, True)


def step_at(times: StripTimes, ms: float) -> int | None:
    """The step drawn at a time, or None outside the frame."""
    if len(times.step_end) == 0 or not 0 <= ms <= times.total:
        return None
    return min(int(np.searchsorted(times.step_end, ms, side="left")), len(times.step_end) - 1)


def pass_at(times: StripTimes, ms: float) -> int | None:
    """The pass at a place of the strip, or None beyond its ends."""
    if len(times.pass_end) == 0 or not 0 <= ms <= times.total:
        return None
    return min(int(np.searchsorted(times.pass_end, ms, side="left")), len(times.pass_end) - 1)


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
        return np.clip(np.diff(up_to) / max(width, 1e-12), 0.0, 1.0)

    if len(lane.begin) == 0:
        return np.zeros(columns), np.zeros(columns)
    calls = ~lane.waits
    return covered(lane.begin[calls], lane.end[calls]), covered(lane.begin[lane.waits], lane.end[lane.waits])
