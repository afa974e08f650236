"""Draws that occur twice, seen from two eyes: the same data with another view that is only shifted sideways."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from wendascope.frame.frame import Frame
from wendascope.frame.numbers import Ints, combined
from wendascope.frame.steps import KINDS

_LEAST_DRAWS = 8
_LEAST_PART = 0.9
"""Of the draws of both: those that have their counterpart."""
_LOOKED_AT = 6
"""Pairs whose matrices are compared."""
_EQUAL = 1e-4
"""Of the largest number of a row: what rounding comes to."""


@dataclass(frozen=True)
class Eyes:
    """Two groups of draws that are the same but for the eye."""

    first: list[int]
    second: list[int]
    """The counterpart of each of `first`."""
    alone: int
    """Draws of either that have none."""


def two_eyes(frame: Frame) -> list[Eyes]:
    """Pairs of passes, and of viewports within a pass, in the order of the frame. Each group is in one pair at most."""
    draws = np.flatnonzero(np.asarray(frame.steps.kind) == KINDS.index("draw"))
    if len(draws) < 2 * _LEAST_DRAWS:
        return []
    of_pass = np.asarray(frame.passes.of_step)[draws]
    viewport = frame.grouping.by("viewport").of_step[draws]
    groups = [
        draws[(of_pass == index) & (viewport == number)]
        for index in np.unique(of_pass).tolist()
        for number in np.unique(viewport[of_pass == index]).tolist()
    ]
    groups = [group for group in groups if len(group) >= _LEAST_DRAWS]
    keys = combined(frame.uses.pipeline, frame.uses.geometry)
    found, taken = list[Eyes](), set[int]()
    for a in range(len(groups)):
        for b in range(a + 1, len(groups)):
            if {a, b} & taken or not _alike(frame, groups[a], groups[b]):
                continue
            pairs = list(_pairs(keys, groups[a], groups[b]))
            whole = len(groups[a]) + len(groups[b])
            if 2 * len(pairs) >= _LEAST_PART * whole and _side_by_side(frame, pairs):
                taken |= {a, b}
                first, second = ([pair[k] for pair in pairs] for k in (0, 1))
                found.append(Eyes(first, second, whole - 2 * len(pairs)))
    return found


def _alike(frame: Frame, a: Ints, b: Ints) -> bool:
    """Whether two groups go into targets of one size, and have about as many draws."""
    sizes = {(t.width, t.height) for t in (frame.passes.targets[int(frame.passes.of_step[g[0]])] for g in (a, b))}
    return len(sizes) == 1 and min(len(a), len(b)) >= _LEAST_PART * max(len(a), len(b))


def _pairs(keys: np.ndarray, a: Ints, b: Ints) -> Iterator[tuple[int, int]]:
    """Each draw of one with the next of the other that has the same program and data."""
    waiting: dict[int, list[int]] = {}
    for step in b.tolist()[::-1]:
        waiting.setdefault(int(keys[step]), []).append(step)
    for step in a.tolist():
        others = waiting.get(int(keys[step]))
        if others:
            yield step, others.pop()


def _shades_otherwise(frame: Frame, first: int, second: int) -> bool:
    """Whether uniforms of one number differ between two draws: a mode, or a factor, and not where an eye is."""
    program = int(frame.steps.program[first])
    record = frame.programs.get(program)
    if record is None:
        return False
    mine, other = (frame.uses.scalar_values(program, step, set(record.plain_uniforms)) for step in (first, second))
    return any(mine[name] != other.get(name) for name in mine if "." not in name)


def _side_by_side(frame: Frame, pairs: list[tuple[int, int]]) -> bool:
    """Whether the matrices of the pairs differ in what they give for x alone, and in that they do: then the height and
    the distance of every vertex are the same for both.
    """
    chosen = pairs[:: max(len(pairs) // _LOOKED_AT, 1)][:_LOOKED_AT]
    moved = 0
    for first, second in chosen:
        if _shades_otherwise(frame, first, second):
            return False
        mine, other = frame.uses.matrices(first), frame.uses.matrices(second)
        shifted = False
        for name in mine.keys() & other.keys():
            a, b = mine[name], other[name]  # by columns: [:, 0] is what gives x
            if np.array_equal(a, b):
                continue
            scale = max(float(np.abs(a).max()), 1e-9)
            rows = (np.abs(a - b) > _EQUAL * scale).any(axis=0)
            if rows[1] or rows[3] or not rows[0]:
                return False
            shifted = True
        moved += shifted
    return bool(chosen) and moved == len(chosen)
