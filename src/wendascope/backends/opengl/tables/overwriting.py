"""Which later clear replaces all of what a step writes: nothing that comes after the clear can see it.

Only what is certain counts: plain clears of an image that is always attached in one way, and that no view shares.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING

import numpy as np

from wendascope.backends.opengl.state.state_table import VIEWPORTS
from wendascope.backends.opengl.tables.cleared import Rectangle, cleared_points
from wendascope.backends.opengl.words.facts import rectangle
from wendascope.frame.numbers import Ints, numbered
from wendascope.frame.steps import KINDS
from wendascope.frame.uses import Primitive

if TYPE_CHECKING:
    from wendascope.backends.opengl.frame import OpenGLFrame

_DRAW, _CLEAR = KINDS.index("draw"), KINDS.index("clear")

_CONDITIONS = ("glBeginConditionalRender", "glBeginConditionalRenderNV")


def overwriting_steps(
    frame: OpenGLFrame, writes: tuple[Ints, Ints], numbers: Mapping[tuple[str, int], int], viewed: set[int]
) -> Ints:
    """Of every (step, resource) of `writes` the clear that replaces it, or the number of steps. `numbers` are those of
    the resources, by kind and name; `viewed` the textures that have views or are ones.
    """
    steps, resources = writes
    found = np.full(len(steps), len(frame.steps), np.int64)
    if len(frame.calls.calls_of(*_CONDITIONS)):  # a clear that may not be carried out replaces nothing for certain
        return found
    clears = _clears(frame, numbers, viewed)
    areas: Ints | None = None
    for resource, of_resource in clears.items():
        mine = np.flatnonzero(resources == resource)
        if not len(mine) or int(steps[mine].min()) >= max(step for step, _ in of_resource):
            continue
        areas = _areas(frame) if areas is None else areas
        x0, y0, x1, y1 = areas[steps[mine]].T
        for step, (left, lower, right, upper) in reversed(of_resource):  # the first one that comes after counts
            inside = (x0 >= left) & (y0 >= lower) & (x1 <= right) & (y1 <= upper)
            found[mine[(steps[mine] < step) & inside]] = step
    return found


def _clears(
    frame: OpenGLFrame, numbers: Mapping[tuple[str, int], int], viewed: set[int]
) -> dict[int, list[tuple[int, Rectangle]]]:
    """Resource -> (step, rectangle) of the clears that replace it there, in the order of the frame."""
    passes = frame.passes
    ways: dict[tuple[str, int], set[tuple[int, int, int, bool]]] = {}
    points: dict[tuple[str, int], set[int]] = {}
    for target in passes.targets:
        for a in target.attachments:
            ways.setdefault((a.kind, a.name), set()).add((a.level, a.face, a.layer, a.layered))
            points.setdefault((a.kind, a.name), set()).add(a.point)
    plain = {
        item
        for item, of_item in ways.items()
        if item in numbers
        and len(of_item) == 1
        and not next(iter(of_item))[3]
        and not (item[0] == "texture" and item[1] in viewed)
    }
    found: dict[int, list[tuple[int, Rectangle]]] = {}
    for step in np.flatnonzero(np.asarray(frame.steps.kind) == _CLEAR).tolist():
        target = passes.targets[int(passes.of_step[step])]
        if not plain & {(a.kind, a.name) for a in target.attachments}:
            continue
        cleared = cleared_points(frame, step)
        for item in plain & {(a.kind, a.name) for a in target.attachments}:
            # an image of depth and stencil is replaced where both are
            places = {cleared.get(point) for point in points[item]}
            place = next(iter(places)) if len(places) == 1 else None
            if place is not None:
                found.setdefault(numbers[item], []).append((step, place))
    return found


def _areas(frame: OpenGLFrame) -> Ints:
    """What each step can write of its target at most, shape (steps, 4): x0, y0, x1, y1. Steps that are neither draws
    nor clears have no bound.
    """
    count, passes = len(frame.steps), frame.passes
    sizes = np.array([(t.width, t.height) for t in passes.targets], np.int64).reshape(-1, 2)[passes.of_step]
    found = np.column_stack([np.zeros((count, 2), np.int64), sizes])
    kinds = np.asarray(frame.steps.kind)
    state, primitive = frame.uses.state, frame.uses.primitive
    nothing = np.zeros(count, np.uint64)
    scissors, _ = _places(frame, "scissor", state.get("scissor or stencil", nothing))
    on = np.asarray(frame.history.column("scissor_test_enabled", frame.steps.call, 0)) == 1
    viewports, one = _places(frame, "viewport", state.get("viewport", nothing))
    filled = (kinds == _DRAW) & (primitive == Primitive.TRIANGLES) & one  # points and lines may reach beyond
    for rows, places in ((on, scissors), (filled, viewports)):
        found[rows, :2] = np.maximum(found[rows, :2], places[rows, :2])
        found[rows, 2:] = np.minimum(found[rows, 2:], places[rows, 2:])
    far = np.iinfo(np.int32).max
    found[(kinds != _DRAW) & (kinds != _CLEAR)] = (-far, -far, far, far)
    return found


def _places(frame: OpenGLFrame, pattern: str, numbers: np.ndarray) -> tuple[Ints, np.ndarray]:
    """(rectangle of each step as x0, y0, x1, y1; whether it is the only one of its pattern), looked up once for each
    setting.
    """
    first, which = numbered(np.asarray(numbers, np.uint64))
    rows, single = [], []
    for step in first.tolist():
        x, y, width, height = rectangle(frame, step, pattern)
        rows.append((np.floor(x), np.floor(y), np.ceil(x + width), np.ceil(y + height)))
        call = int(frame.steps.call[step])
        values = {frame.history.value(pattern, call, i) for i in range(VIEWPORTS)} - {None}
        single.append(len(values) == 1)
    return np.array(rows, np.int64).reshape(-1, 4)[which], np.array(single, bool)[which]
