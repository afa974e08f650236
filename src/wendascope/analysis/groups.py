"""Which steps could be one draw if they came next to each other: copies, other geometry, other textures."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
import numpy.typing as npt

from wendascope.analysis.guidelines import BatchGuidelines
from wendascope.analysis.sharing import Sharing
from wendascope.frame.numbers import Ints, Numbers, combined

INSTANCE, MERGE, MULTI_DRAW = "instance", "merge", "multi-draw"
Differ = Literal["same", "shape", "size"]


@dataclass(frozen=True)
class Group:
    """Steps of one region that one draw could hold."""

    how: str
    """`instance`, `merge` or `multi-draw`."""
    steps: Ints
    textures: Differ
    """How their textures differ: not at all, as layers of an array may, or in size, so that they go on a page."""


def find_groups(sharing: Sharing, measure: BatchGuidelines) -> list[Group]:
    """All groups of a frame. A step is in one group at most."""
    return _Grouping(sharing, measure).groups()


class _Grouping:
    def __init__(self, sharing: Sharing, measure: BatchGuidelines) -> None:
        self._sharing, self._measure = sharing, measure
        self._vertices = np.asarray(sharing.frame.steps.vertices, np.int64)

    def groups(self) -> list[Group]:
        sharing = self._sharing
        found: list[Group] = []
        usable = sharing.movable & np.isin(sharing.frame.steps.program, list(sharing.programs))
        family_of = combined(sharing.family(ordered=False), sharing.sides.astype(np.uint64))
        for family in classes(family_of, np.flatnonzero(usable)):
            found += self._of_family(family)
        return [group for group in found if len(group.steps) > 1]

    def _of_family(self, family: Ints) -> list[Group]:
        sharing = self._sharing
        texture = sharing.columns["texture"]
        if all_same(texture[family]):
            return self._split(family, "same")
        shapes = classes(sharing.texture_shapes, family)
        looks = classes(sharing.texture_looks, family)
        if len(shapes) > 2 and len(looks) == 1 and self._plain_textures(family) and self._on_pages(family):
            # many sizes and one format: one page is fewer draws than an array for each size
            return self._split(family, "size")
        found: list[Group] = []
        left = np.ones(len(family), bool)
        for shape in shapes:
            near = not all_same(texture[shape])
            parts = [shape] if not near or self._plain_textures(shape) else classes(texture, shape)
            for part in parts:
                for group in self._split(part, "shape" if near and len(parts) == 1 else "same"):
                    found.append(group)
                    left[np.searchsorted(family, group.steps)] = False
        # what no other texture of its size goes with: on a page, where formats are alike
        for alike in classes(sharing.texture_looks, family[left]) if int(left.sum()) > 1 else []:
            different = len(alike) > 1 and not all_same(texture[alike])
            if different and self._plain_textures(alike) and self._on_pages(alike):
                found += self._split(alike, "size")
        return found

    def _on_pages(self, steps: Ints) -> bool:
        """Whether the textures of some steps can lie on a page: none of them repeats."""
        program = int(self._sharing.frame.steps.program[steps[0]])
        names = {
            int(n) for u in self._sharing.samplers if u.program == program for n in u.textures[np.isin(u.steps, steps)]
        }
        textures = self._sharing.frame.textures
        return not any(name in textures and textures[name].repeats for name in names)

    def _split(self, steps: Ints, textures: Differ) -> list[Group]:
        """Copies as instances where there are enough of them, the others merged."""
        if len(steps) < 2:
            return []
        sharing, measure = self._sharing, self._measure
        _, which, counts = np.unique(sharing.geometry[steps], return_inverse=True, return_counts=True)
        bare = not sharing.inputs_of(int(steps[0]))  # vertices made up by the shader cannot be merged
        many = counts[which] >= (2 if bare else measure.least_copies)
        single = sharing.frame.steps.instances[steps] == 1
        large = (self._vertices[steps] >= measure.least_instance_vertices) | (sharing.primitive[steps] > 2) | bare
        alone = len(counts) == 1 and len(steps) >= 2 and bool(large.all())
        copies = (many | alone) & large & single
        found = [Group(INSTANCE, group, textures) for group in classes(sharing.geometry, steps[copies])]
        rest = steps[~copies & single & (sharing.primitive[steps] <= 2)]
        if len(rest) > 1:
            found.append(Group(MULTI_DRAW if self._one_range_each(rest) else MERGE, rest, textures))
        return found

    def _plain_textures(self, steps: Ints) -> bool:
        """Whether all samplers that differ read two-dimensional textures, which arrays can be made of."""
        program = int(self._sharing.frame.steps.program[steps[0]])
        for use in self._sharing.samplers:
            if use.program != program or use.plain:
                continue
            mine = np.isin(use.steps, steps)
            if mine.any() and not all_same(use.textures[mine]):
                return False
        return True

    def _one_range_each(self, steps: Ints) -> bool:
        """Whether the steps differ in nothing but the range that they draw of the same buffers."""
        sharing = self._sharing
        arrays, _ = sharing.arrays
        same = all(all_same(sharing.columns[name][steps]) for name in ("uniform", "texture", "block"))
        ranges = sharing.uses.range_draw[steps]
        return all_same(arrays[steps]) and same and all_same(ranges) and bool(ranges[0])


def classes(numbers: Numbers | Ints, rows: Ints) -> list[Ints]:
    """Rows by equal number, each in order, in the order of their first rows."""
    if len(rows) == 0:
        return []
    order = np.argsort(numbers[rows], kind="stable")
    edges = np.flatnonzero(np.diff(numbers[rows][order])) + 1
    found = [np.asarray(rows[part]) for part in np.split(order, edges)]
    return sorted(found, key=lambda part: int(part[0]))


def all_same(values: npt.NDArray[Any]) -> bool:
    """Whether all values of a column are equal."""
    return len(values) == 1 or bool((values == values[0]).all())
