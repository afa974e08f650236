"""The pixel stack: every step that touched one pixel, in order, and what became of its fragments."""

from __future__ import annotations

import functools

import msgspec
import numpy as np

from wendascope.analysis.geometry.triangles import cover, window_points
from wendascope.backends.doors import Probed, Probing, Session
from wendascope.errors import ReplayError
from wendascope.frame.frame import Frame
from wendascope.frame.layers import PassLayers
from wendascope.measure.overdraw import Geometry, geometry_of, layers_of, passes_shown, view_of
from wendascope.replay.jobs import remote
from wendascope.task import Task


class StackEntry(msgspec.Struct):
    """One step at the pixel. Counts are fragments (samples on a multisampled target)."""

    step: int
    fate: str
    """`visible`, `covered`, `blended`, `no change`, `behind`, `stencil`, `discarded`, `scissor`, `cleared`."""
    passed: int
    behind: int
    """Rejected by the depth test."""
    stencilled: int
    """Rejected by the stencil test."""
    discarded: int
    by: int | None = None
    """The later step that covers it."""
    colour: tuple[int, int, int, int] | None = None
    """Of the pixel after the step, eight bits a channel."""
    depth: float | None = None


class PixelStack(msgspec.Struct):
    x: int
    y: int
    target: str
    entries: list[StackEntry]
    caveats: list[str]


@remote
def pixel_stack(session: Session, job: Task, x: int, y: int, step: int | None = None) -> PixelStack:
    """Everything at pixel (x, y from the bottom) of a step's pass; without a step, of the window over the frame."""
    frame = session.frame
    passes = passes_shown(session, step)
    if not passes:
        raise ReplayError("no step draws into the window; choose a step to look at its target")
    target = frame.passes.targets[passes[0]]
    if not (0 <= x < target.width and 0 <= y < target.height):
        raise ReplayError(f"{target.name} has no pixel {x}, {y}")
    geometry = geometry_of(session, job)
    layers = layers_of(session, job, passes)
    job.progress("looking at the pixel", 0.0)
    covered = functools.partial(_covered, frame, geometry, x, y)
    asked = Probing(x, y, passes, geometry.positions.states, geometry.boxes, covered)
    with session.counting() as counting:
        entries = [_entry(row) for row in counting.probe(job, asked)]
    for entry in entries:
        entry.passed = _count_at(layers, entry.step, x, y) or entry.passed
        entry.behind = max(entry.behind - entry.passed, 0)
    _decide(layers, entries)
    return PixelStack(x, y, target.name, entries, [caveat for item in layers for caveat in item.caveats])


def _count_at(layers: list[PassLayers], step: int, x: int, y: int) -> int:
    """Fragments of a step at a pixel: over its samples, over its layers."""
    for item in layers:
        for touch in item.touches:
            if touch.step == step and touch.kind != "clear":
                total = 0
                for layer in range(item.layers):
                    row = layer * item.height + y - touch.y
                    columns = slice(max(x * item.samples - touch.x, 0), max((x + 1) * item.samples - touch.x, 0))
                    if 0 <= row < touch.counts.shape[0]:
                        total += int(touch.counts[row, columns].sum())
                return total
    return 0


def _covered(frame: Frame, geometry: Geometry, x: int, y: int, step: int) -> int | None:
    """Triangles of the step that cover the pixel's centre; None where positions do not tell."""
    triangles, state = geometry.triangles.get(step), geometry.positions.states[step]
    if triangles is None or not state.filled:
        return None
    target = frame.passes.targets[int(frame.passes.of_step[step])]
    boxes = triangles.boxes
    near = np.flatnonzero(
        (boxes[:, 0] <= x) & (boxes[:, 1] <= y) & (boxes[:, 2] > x) & (boxes[:, 3] > y) & triangles.seen
    )
    clip = geometry.positions.clip[step][near].astype(np.float64)
    if len(clip) == 0:
        return 0
    if (clip[..., 3] <= 0).any() or (np.abs(clip[..., 2]) > clip[..., 3]).any():
        return None  # cut by the view volume: left to the driver
    points = window_points(clip, view_of(state, target))
    return int(cover(points, (x, y, x + 1, y + 1))[0].sum())


def _entry(row: Probed) -> StackEntry:
    # of what reached the depth test, what passed is taken off where all counts are known
    behind = max(row.reached - row.stencilled, 0)
    fate = "scissor" if row.cut_off else ""
    return StackEntry(row.step, fate, row.passed, behind, row.stencilled, row.discarded, None, row.colour, row.depth)


def _decide(layers: list[PassLayers], entries: list[StackEntry]) -> None:
    """Fates, from the last step to the first."""
    touches = {touch.step: (item, touch) for item in layers for touch in item.touches}
    covered_by: int | None = None
    for entry in reversed(entries):
        if entry.fate == "scissor":
            continue
        item, touch = touches.get(entry.step, (None, None))
        if touch is None or (entry.passed == 0 and touch.kind != "clear"):
            entry.fate = (
                "discarded"
                if entry.discarded and not (entry.behind or entry.stencilled)
                else "stencil"
                if entry.stencilled and not entry.behind
                else "behind"
            )
            continue
        assert item is not None
        if covered_by is not None:
            entry.fate, entry.by = "covered", covered_by
        elif touch.kind == "clear":
            entry.fate = "cleared"
        elif item.covers(touch):
            entry.fate = "visible"
        elif touch.kind == "depth":
            entry.fate = "depth only"
        else:
            entry.fate = "blended"
        if item.covers(touch) and covered_by is None:
            covered_by = entry.step
    previous: tuple[int, int, int, int] | None = None
    for entry in entries:
        if entry.fate == "blended" and previous is not None and entry.colour == previous:
            entry.fate = "no change"
        previous = entry.colour or previous
