"""Which steps could be one draw if they came next to each other: copies, other geometry, other textures."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

from wendascope.analysis.draws.sharing import Sharing
from wendascope.analysis.guidelines import BatchGuidelines
from wendascope.frame.numbers import Ints, Numbers, combined
from wendascope.frame.remedy import ARRAY, ATLAS, INSTANCE, MERGE, MULTI_DRAW, SAME, UNITS, Textures


@dataclass(frozen=True)
class Group:
    """Steps of one region that one draw could hold."""

    how: str
    """`instance`, `merge` or `multi-draw`."""
    steps: Ints
    textures: Textures


def find_groups(sharing: Sharing, measure: BatchGuidelines) -> list[Group]:
    """All groups of a frame. A step is in one group at most."""
    return _Grouping(sharing, measure).groups()


def texture_ways(sharing: Sharing, measure: BatchGuidelines, steps: Ints) -> list[Textures]:
    """The ways in which the textures of some steps of one program can all come together, the plainest first."""
    if all_same(sharing.columns["texture"][steps]):
        return [SAME]
    return _Grouping(sharing, measure).ways(steps)


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
            return self._split(family, SAME)
        if not self._plain_textures(family):
            return [group for alike in classes(texture, family) for group in self._split(alike, SAME)]
        for way in self.ways(family):
            if way == ARRAY or not self._large_without(family):
                return self._split(family, way)
            break
        # no way takes them all: arrays of each size, pages of each format, and the others side by side
        found: list[Group] = []
        left = family
        ways: tuple[tuple[Textures, Numbers], ...] = ((ARRAY, sharing.texture_shapes), (ATLAS, sharing.texture_looks))
        for way, numbers in ways:
            kept: list[Ints] = []
            for alike in classes(numbers, left):
                near = len(alike) > 1 and not all_same(texture[alike])
                possible = way == ARRAY or self._on_pages(alike)
                if near and possible:
                    for part in self._bins(alike, self._measure.array_layers) if way == ARRAY else [alike]:
                        found += self._split(part, way)
                else:
                    kept.append(alike)
            left = np.sort(np.concatenate(kept)) if kept else left[:0]
        rest = []
        for alike in classes(texture, left):
            if len(alike) >= self._measure.least_saved:
                found += self._split(alike, SAME)
            else:
                rest.append(alike)
        few = np.sort(np.concatenate(rest)) if rest else left[:0]
        for part in self._bins(few, self._measure.texture_units):
            found += self._split(part, SAME if all_same(texture[part]) else UNITS)
        return found

    def _large_without(self, steps: Ints) -> bool:
        """Whether steps with the same textures are many already: then to bring different ones together saves few more
        draws, and has a price in the shader.
        """
        return len(steps) >= self._measure.least_saved * len(classes(self._sharing.columns["texture"], steps))

    def ways(self, steps: Ints) -> list[Textures]:
        """Ways that take the textures of all steps at once."""
        sharing = self._sharing
        if not self._plain_textures(steps):
            return []
        found: list[Textures] = []
        fewest = len(self._bins(steps, self._measure.texture_units)) == 1
        if all_same(sharing.texture_shapes[steps]) and len(self._bins(steps, self._measure.array_layers)) == 1:
            found.append(ARRAY)
        if fewest:
            found.append(UNITS)
        if all_same(sharing.texture_looks[steps]) and self._on_pages(steps):
            found.append(ATLAS)
        return found

    def _bins(self, steps: Ints, limit: int) -> list[Ints]:
        """The steps in parts that read no more than so many different textures each, all samplers counted."""
        if len(steps) == 0:
            return []
        sharing = self._sharing
        program = int(sharing.frame.steps.program[steps[0]])
        columns = []
        for use in sharing.samplers:
            if use.program == program:
                rows = np.searchsorted(use.steps, steps)
                columns.append(use.numbers[np.minimum(rows, len(use.steps) - 1)])
        texture = sharing.columns["texture"]
        combinations = classes(texture, steps)
        parts: list[list[Ints]] = []
        seen: list[set[int]] = []
        for alike in combinations:
            row = int(np.searchsorted(steps, alike[0]))
            read = [int(column[row]) for column in columns]
            together = [part | {value} for part, value in zip(seen, read, strict=True)] if parts else []
            if parts and sum(map(len, together)) <= limit:
                parts[-1].append(alike)
                seen = together
            else:
                parts.append([alike])
                seen = [{value} for value in read]
        return [np.sort(np.concatenate(part)) for part in parts]

    def _on_pages(self, steps: Ints) -> bool:
        """Whether the textures of some steps can lie on a page: none of them repeats."""
        program = int(self._sharing.frame.steps.program[steps[0]])
        names = {
            int(n) for u in self._sharing.samplers if u.program == program for n in u.textures[np.isin(u.steps, steps)]
        }
        textures = self._sharing.frame.textures
        return not any(name in textures and textures[name].repeats for name in names)

    def _split(self, steps: Ints, textures: Textures) -> list[Group]:
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
        same &= all_same(sharing.uses.constant_inputs[steps])
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
