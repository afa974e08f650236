"""What the triangles of each step come to: classes, boxes, repeats and depths, for many small steps at once."""

from __future__ import annotations

from dataclasses import dataclass, fields

import numpy as np
import numpy.typing as npt

from wendascope.analysis.geometry.drawn import StepDrawn
from wendascope.analysis.geometry.triangles import FEW, Triangles
from wendascope.frame.numbers import combined

Clip = npt.NDArray[np.float32]
_TOGETHER = 1 << 18
"""Triangles that are looked at in one go."""
_COUNTS = ("outside", "away", "empty", "no_sample", "few", "partial", "covered", "degenerate", "duplicates")
_ONE_DEPTH = 1e-6
"""Depths closer than this are one: less than a step of 16 bits, a little more than one of 24."""


@dataclass(frozen=True)
class StepTriangles:
    """The triangles of one step."""

    row: StepDrawn
    """What is filled in."""
    triangles: Triangles
    clip: Clip
    """Clip positions, shape (triangles, 3, 4)."""
    depth_range: tuple[float, float]
    zero_to_one: bool
    """Whether depth in clip space goes from 0 to 1, and not from -1."""


def fill_steps(steps: list[StepTriangles]) -> None:
    """Write what the triangles of each step come to into its row."""
    at = 0
    while at < len(steps):
        end, total = at, 0
        while end < len(steps) and (end == at or total + len(steps[end].clip) <= _TOGETHER):
            total += len(steps[end].clip)
            end += 1
        _fill([step for step in steps[at:end] if len(step.clip)])
        at = end
    for step in steps:
        step.row.triangles = len(step.clip)
        if not len(step.clip):
            for name in _COUNTS:
                setattr(step.row, name, 0)


def _fill(steps: list[StepTriangles]) -> None:
    """The same for steps with triangles, together."""
    if not steps:
        return
    whole = Triangles(*(np.concatenate([getattr(s.triangles, f.name) for s in steps]) for f in fields(Triangles)))
    clip = np.concatenate([s.clip for s in steps])
    sizes = np.array([len(s.clip) for s in steps])
    starts = np.cumsum(sizes) - sizes
    step_of = np.repeat(np.arange(len(steps)), sizes)

    def sums(values: npt.NDArray[np.generic]) -> list[int]:
        return [int(n) for n in np.add.reduceat(values.astype(np.int64), starts)]

    seen = whole.seen
    degenerate, duplicates = repeats(clip, step_of, len(steps))
    depth, one_depth = _depths(steps, clip, seen, step_of)
    columns = {
        "outside": sums(whole.outside),
        "away": sums(whole.away),
        "empty": sums(whole.empty),
        "no_sample": sums(seen & (whole.samples == 0)),
        "few": sums(seen & (whole.samples > 0) & (whole.samples <= FEW)),
        "partial": sums(seen & whole.partial),
        "covered": sums(whole.samples),
        "box": _boxes(whole, starts),
        "degenerate": degenerate.tolist(),
        "duplicates": duplicates.tolist(),
        "depth": depth,
        "one_depth": one_depth,
    }
    for name, values in columns.items():
        for step, value in zip(steps, values, strict=True):
            setattr(step.row, name, value)


def _boxes(whole: Triangles, starts: npt.NDArray[np.int64]) -> list[tuple[int, int, int, int] | None]:
    drawn = whole.boxes[:, 0] < whole.boxes[:, 2]
    far = np.iinfo(np.int64).max
    low = np.minimum.reduceat(np.where(drawn[:, None], whole.boxes[:, :2], far), starts, axis=0).tolist()
    high = np.maximum.reduceat(np.where(drawn[:, None], whole.boxes[:, 2:], -far), starts, axis=0).tolist()
    return [(x0, y0, x1, y1) if x0 < far else None for (x0, y0), (x1, y1) in zip(low, high, strict=True)]


def repeats(
    clip: Clip, step_of: npt.NDArray[np.int64], steps: int
) -> tuple[npt.NDArray[np.int64], npt.NDArray[np.int64]]:
    """(triangles with two corners in one place, triangles that are there twice) of each step, given clip positions
    (n, 3, 4) and the step that each triangle belongs to, shape (n,).
    """
    a, b, c = clip[:, 0], clip[:, 1], clip[:, 2]
    flat = (a == b).all(axis=1) | (b == c).all(axis=1) | (a == c).all(axis=1)
    degenerate = np.bincount(step_of[flat], minlength=steps)
    words = np.ascontiguousarray(clip[~flat]).view(np.uint64).reshape(-1, 3, 2)
    # the corners in an order of their own, so that only their places count
    corners = np.sort(combined(words[..., 0], words[..., 1]), axis=1)
    own = step_of[~flat]
    keys = combined(own.astype(np.uint64), corners[:, 0], corners[:, 1], corners[:, 2])
    _, first = np.unique(keys, return_index=True)
    different = np.bincount(own[first], minlength=steps)
    return degenerate, np.bincount(own, minlength=steps) - different


def _depths(
    steps: list[StepTriangles], clip: Clip, seen: npt.NDArray[np.bool_], step_of: npt.NDArray[np.int64]
) -> tuple[list[float | None], list[bool]]:
    """(mean depth of the corners of seen triangles in front of the viewer, 0 near to 1 far; whether all have it), of
    each step.
    """
    corners = clip[seen].reshape(-1, 4)
    owner = np.repeat(step_of[seen], 3)
    front = corners[:, 3] > 0
    corners, owner = corners[front], owner[front]
    ndc = np.clip(corners[:, 2] / corners[:, 3], -1.0, 1.0)
    half = ~np.array([s.zero_to_one for s in steps])
    depths = np.where(half[owner], ndc * np.float32(0.5) + np.float32(0.5), ndc)
    counts = np.bincount(owner, minlength=len(steps))
    totals = np.bincount(owner, depths, minlength=len(steps))
    low, high = np.full(len(steps), np.inf), np.full(len(steps), -np.inf)
    np.minimum.at(low, owner, depths)
    np.maximum.at(high, owner, depths)
    means: list[float | None] = []
    for step, count, total in zip(steps, counts.tolist(), totals.tolist(), strict=True):
        near, far = step.depth_range
        means.append(near + (far - near) * total / count if count else None)
    return means, ((counts > 0) & (high - low < _ONE_DEPTH)).tolist()
