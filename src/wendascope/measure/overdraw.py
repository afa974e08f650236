"""Overdraw and geometry of a frame: gathered once in the replay process, asked about by lenses and pages."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from wendascope.analysis.draws.coverage import Coverage, DepthTouches, frame_coverage, shares_pixels
from wendascope.analysis.draws.liveness import reads_of_targets
from wendascope.analysis.draws.sharing import Sharing
from wendascope.analysis.geometry.triangles import Triangles, View, classify
from wendascope.backends.doors import Box, Counting, DrawState, Positions, Session, What
from wendascope.backends.slots import Slot
from wendascope.frame.frame import Frame
from wendascope.frame.layers import PassLayers, Touch
from wendascope.frame.passes import Target
from wendascope.frame.steps import KINDS
from wendascope.replay.jobs import remote
from wendascope.task import Task


@dataclass
class Geometry:
    """Positions and what becomes of them."""

    positions: Positions[DrawState]
    triangles: dict[int, Triangles]
    """Step -> its triangles; of steps that draw triangles and whose positions are known."""
    boxes: dict[int, Box | None]


_GEOMETRY: Slot[Geometry] = Slot("geometry")
_TARGET_READS: Slot[list[list[int]]] = Slot("target reads")
_LAYERS: Slot[dict[int, PassLayers]] = Slot("layers")
_DEPTH_TOUCHES: Slot[DepthTouches] = Slot("depth touches")
_RASTERISED: Slot[dict[int, PassLayers]] = Slot("rasterised")


def geometry_of(session: Session, job: Task) -> Geometry:
    """Positions of the frame and their classes; gathered when first asked for."""

    def gather() -> Geometry:
        with session.counting() as counting:
            positions = counting.positions(job)
        return _geometry(session.frame, positions, job)

    return session.slots.get(_GEOMETRY, gather)


def target_reads(session: Session) -> list[list[int]]:
    """For each pass the steps before which its target is read; worked out once."""
    return session.slots.get(_TARGET_READS, lambda: reads_of_targets(session.frame))


def layers_of(session: Session, job: Task, passes: Iterable[int] | None = None) -> list[PassLayers]:
    """Layers of the passes asked for, or of all; those not counted before are counted."""
    kept = session.slots.get(_LAYERS, dict)
    wanted = list(range(len(session.frame.passes)) if passes is None else passes)
    missing = frozenset(wanted) - set(kept)
    if missing:
        geometry = geometry_of(session, job)
        with session.counting() as counting:
            asked = Counting(geometry.positions.states, geometry.boxes, passes=missing)
            for found in counting.count_layers(job, asked):
                found.reads = target_reads(session)[found.index]
                kept[found.index] = found
    return [kept[index] for index in wanted]


def rasterised_of(session: Session, job: Task, passes: Iterable[int]) -> list[PassLayers]:
    """Everything that was rasterised in some passes, whether or not it passed or was discarded."""
    kept = session.slots.get(_RASTERISED, dict)
    wanted = list(passes)
    missing = frozenset(wanted) - set(kept)
    if missing:
        with session.counting(discards=False) as counting:

            def gather() -> Geometry:
                return _geometry(session.frame, counting.positions(job), job)

            geometry = counting.slots.get(_GEOMETRY, gather)
            asked = Counting(geometry.positions.states, geometry.boxes, "reached", missing)
            for found in counting.count_layers(job, asked):
                kept[found.index] = found
    return [kept[index] for index in wanted]


@remote
def steps_mask(session: Session, job: Task, steps: list[int]) -> npt.NDArray[np.bool_]:
    """Shape (h, w), bottom row first: where fragments of some steps passed, of those in the pass of the first; of a
    step of which none did, the box of its triangles.
    """
    index = int(session.frame.passes.of_step[steps[0]])
    item = layers_of(session, job, [index])[0]
    wanted, boxes = set(steps), geometry_of(session, job).boxes
    mask = np.zeros(item.shape, bool)
    for touch in item.touches:
        if touch.step in wanted:
            mask[touch.box] |= touch.counts > 0
    mask = np.logical_or.reduce(mask[: item.height].reshape(item.height, item.width, item.samples), axis=2)
    for step in wanted - {touch.step for touch in item.touches}:
        box = boxes.get(step)
        if box is not None and int(session.frame.passes.of_step[step]) == index:
            mask[box[1] : box[3], box[0] : box[2]] = True
    return np.asarray(mask)


def passes_shown(session: Session, step: int | None) -> list[int]:
    """The pass of a step; without one, all passes into the captured window."""
    frame = session.frame
    if step is not None:
        return [int(frame.passes.of_step[step])]
    shown = frame.finished_target.framebuffer
    return [i for i, t in enumerate(frame.passes.targets) if t.framebuffer == shown and not t.window]


def rejected_by_depth(session: Session, job: Task, steps: frozenset[int]) -> dict[int, int]:
    """Fragments of some steps that the depth test rejected after the shader had run or before."""
    geometry = geometry_of(session, job)
    passes = frozenset(int(session.frame.passes.of_step[step]) for step in steps)
    with session.counting() as counting:
        asked = Counting(geometry.positions.states, geometry.boxes, "failed depth", passes, steps)
        found = counting.count_layers(job, asked)
    counts = dict.fromkeys(steps, 0)
    for item in found:
        for touch in item.touches:
            if touch.step in steps:
                counts[touch.step] = int(touch.counts.sum(dtype=np.int64))
    return counts


def coverage_of_frame(session: Session, job: Task, boxes: npt.NDArray[np.int64]) -> Coverage:
    """What every step of the frame touches, and what depth tests decide; `boxes` as `frame_coverage` takes them."""
    depth = session.slots.get(_DEPTH_TOUCHES, lambda: _depth_touches(session, job))
    return frame_coverage(session.frame, layers_of(session, job), boxes, depth)


def _depth_touches(session: Session, job: Task) -> DepthTouches:
    """Where it shows which of two steps comes first though a depth test decides, counted in a walk each: opaque ones
    of equal depth, drawn twice for it, and what steps hide that write depth without covering.
    """
    sharing = Sharing(session.frame)
    free = sharing.order_free & sharing.movable & ~session.runs_once()
    passes = np.asarray(session.frame.passes.of_step)
    several = np.flatnonzero(np.bincount(passes[free], minlength=len(session.frame.passes)) > 1)

    def touches(what: What, steps: npt.NDArray[np.bool_]) -> dict[int, list[Touch]]:
        if not steps.any():
            return {}
        geometry, chosen = geometry_of(session, job), frozenset(np.flatnonzero(steps).tolist())
        counting_of = frozenset(np.unique(passes[steps]).tolist())
        with session.counting() as counting:
            asked = Counting(geometry.positions.states, geometry.boxes, what, counting_of, chosen)
            found = counting.count_layers(job, asked)
        return {item.index: [t for t in item.touches if t.step in chosen] for item in found if item.counted}

    ties = touches("tied", free & np.isin(passes, several) & _near_others(session, job))
    return DepthTouches(ties, touches("failed depth", sharing.hidden_by_depth), sharing.hiders)


def _near_others(session: Session, job: Task) -> npt.NDArray[np.bool_]:
    """Steps that may share a pixel with another step of their pass, by the pixels that their triangles touch with any
    part; all those of which that is not known. Shape (steps,).
    """
    frame, geometry = session.frame, geometry_of(session, job)
    near = np.ones(len(frame.steps), bool)
    draws = np.asarray(frame.steps.kind) == KINDS.index("draw")
    for index, target in enumerate(frame.passes.targets):
        own = np.arange(int(frame.passes.first[index]), int(frame.passes.end[index]))
        own = own[draws[own]]
        if all(step in geometry.boxes for step in own.tolist()):
            boxes = [_touched_box(geometry, step) or (0, 0, 0, 0) for step in own.tolist()]
            near[own] = shares_pixels(np.array(boxes, np.int64).reshape(-1, 4), target.width, target.height)
    return near


def _touched_box(geometry: Geometry, step: int) -> Box | None:
    filled = geometry.positions.states[step].filled
    return geometry.triangles[step].box if filled and step in geometry.triangles else geometry.boxes[step]


def view_of(state: DrawState, target: Target) -> View:
    """Viewport, culling and clipping of a draw."""
    return View(
        state.viewport, target.width, target.height, *state.culls, state.front_clockwise, state.upper_left,
        state.zero_to_one, state.depth_clamp,
    )  # fmt: skip


def _roomy(box: Box | None, view: View) -> Box | None:
    """One pixel more on every side: drivers snap and tie as they like."""
    if box is None:
        return None
    low, high = view.bounds[:2], view.bounds[2:]
    return max(box[0] - 1, low[0]), max(box[1] - 1, low[1]), min(box[2] + 1, high[0]), min(box[3] + 1, high[1])


_TOGETHER = 1 << 18
"""Triangles that are sorted in one go."""


def _geometry(frame: Frame, positions: Positions[DrawState], job: Task) -> Geometry:
    """Sort the triangles of all steps that share a view together: steps are many and small."""
    found = Geometry(positions, {}, {})
    by_view: dict[View, list[int]] = {}
    for step, clip in positions.clip.items():
        view = view_of(positions.states[step], frame.passes.targets[int(frame.passes.of_step[step])])
        if clip.shape[1] == 3:
            by_view.setdefault(view, []).append(step)
        else:  # points and lines are as wide as the program likes: the whole viewport
            found.boxes[step] = (
                view.bounds
                if len(clip) and view.bounds[0] < view.bounds[2] and view.bounds[1] < view.bounds[3]
                else None
            )
    done, total = 0, max(sum(map(len, by_view.values())), 1)
    for view, steps in by_view.items():
        while steps:
            job.progress("sorting triangles", done / total)
            sizes = np.cumsum([len(positions.clip[step]) for step in steps])
            many = max(int(np.searchsorted(sizes, _TOGETHER, side="right")), 1)
            group, steps = steps[:many], steps[many:]
            triangles = classify(np.concatenate([positions.clip[step] for step in group]), view)
            first = 0
            for step in group:
                end = first + len(positions.clip[step])
                found.triangles[step] = triangles.part(slice(first, end))
                filled = positions.states[step].filled
                found.boxes[step] = _roomy(found.triangles[step].box, view) if filled else view.bounds
                first = end
            done += many
    return found
