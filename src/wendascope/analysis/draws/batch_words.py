"""Batches in words that a reader of the program recognises: what they draw, and when they may be drawn."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from wendascope.analysis.draws.batches import Batch, Batches
from wendascope.analysis.draws.sharing import Sharing
from wendascope.frame.numbers import Ints
from wendascope.frame.uses import Primitive
from wendascope.texts import listed, plural

_QUAD = 6
"""Vertices up to which triangles are a quad."""
_MOST_NAMED = 2
"""Batches that a condition names."""


class BatchWords:
    """Of one frame."""

    def __init__(self, sharing: Sharing, found: Batches) -> None:
        self._sharing, self._found = sharing, found
        self._names: dict[int, str] = {}

    def name(self, batch: Batch) -> str:
        """What a batch draws, and with what."""
        if batch.number not in self._names:
            self._names[batch.number] = self._draws(np.array(batch.steps, np.int64))
        return self._names[batch.number]

    def condition(self, batch: Batch) -> str:
        """When a batch may be drawn so, and what guarantees it in a program."""
        if batch.in_order:
            return "always: its draws follow each other"
        if batch.always:
            return "always: state alone allows it"
        crossed = self._crossed(batch)
        more = "; others move with it" if not batch.in_place else ""
        named = listed([self._short(steps) for steps in crossed[:_MOST_NAMED]])
        if len(crossed) > _MOST_NAMED:
            named += " and others"
        if not crossed or not self._overlap(batch, crossed):
            nothing = f"none of {named}" if named else "nothing in between"
            return f"while it overlaps {nothing}, as in this picture{more}"
        return f"while it lies over {named} as in this picture{more}"

    def _overlap(self, batch: Batch, crossed: list[Ints]) -> bool:
        """Whether a batch shares a place with draws that it changes places with in some part."""
        touched = self._found.touched
        if touched is None:
            return True
        mine = np.unique(np.concatenate([touched.of(step) for step in batch.steps]))
        others = [touched.of(int(step)) for steps in crossed for step in steps.tolist()]
        return bool(np.isin(np.concatenate(others), mine).any())

    def _crossed(self, batch: Batch) -> list[Ints]:
        """Draws of other batches and single ones that come between its steps today, those of most steps first: state
        alone would keep them there.
        """
        first, last = batch.steps[0], batch.steps[-1]
        region = np.array(sorted(self._found.regions[batch.region].order), np.int64)
        between = region[(region > first) & (region < last) & ~np.isin(region, batch.steps)]
        alike = self._sharing.commuting[first]
        if alike:
            between = between[self._sharing.commuting[between] != alike]
        numbers = self._found.of_step[between]
        programs = np.asarray(self._sharing.frame.steps.program)[between]
        keys = np.where(numbers >= 0, numbers, -1 - programs)
        groups = [between[keys == key] for key in np.unique(keys).tolist()]
        return sorted(groups, key=lambda steps: -len(steps))

    def _short(self, steps: Ints) -> str:
        """Some draws, as they are spoken of in passing."""
        number = int(self._found.of_step[steps[0]])
        program = self._sharing.frame.program_name(int(self._sharing.frame.steps.program[steps[0]]))
        if len(steps) == 1:
            return f"step {int(steps[0]):,}"
        return f"the {len(steps):,} {self._shape(steps)}" + (
            f" of batch {number + 1}" if number >= 0 else f", {program}"
        )

    def _draws(self, steps: Ints) -> str:
        """Some draws of one program in a few words: their debug group, or their shape and program."""
        frame = self._sharing.frame
        groups = {frame.steps.group[step] for step in steps.tolist()}
        label = next(iter(groups))[-1] if len(groups) == 1 and next(iter(groups)) else ""
        texture = self._texture(steps)
        facts = [
            f"{len(steps):,} {self._shape(steps)}",
            frame.program_name(int(frame.steps.program[steps[0]])),
            texture,
        ]
        text = ", ".join(filter(None, facts))
        return f"{label}: {text}" if label else text

    def _shape(self, steps: Ints) -> str:
        frame, sharing = self._sharing.frame, self._sharing
        vertices = np.unique(np.asarray(frame.steps.vertices)[steps])
        match int(sharing.primitive[steps[0]]):
            case Primitive.POINTS:
                return "sets of points"
            case Primitive.LINES:
                return "sets of lines"
        if vertices[-1] <= _QUAD and int(frame.steps.triangles[steps].max()) <= 2:
            return "quads"
        if len(vertices) == 1:
            one = bool((sharing.geometry[steps] == sharing.geometry[steps[0]]).all())
            return f"{'copies of a mesh' if one else 'meshes'} of {int(vertices[0]):,} vertices"
        return f"meshes of {int(vertices[0]):,} to {int(vertices[-1]):,} vertices"

    def _texture(self, steps: Ints) -> str:
        """The label of the one texture that they read; how many there are, where there are several."""
        program = int(self._sharing.frame.steps.program[steps[0]])
        names: set[int] = set()
        for use in self._sharing.samplers:
            if use.program == program:
                names |= set(use.textures[np.isin(use.steps, steps)].tolist())
        names.discard(0)
        if len(names) > 1:
            return plural(len(names), "texture")
        record = self._sharing.frame.textures.get(next(iter(names))) if names else None
        return record.label if record and record.label else ""


def order_of_pass(found: Batches, steps: Sequence[int]) -> list[int]:
    """The steps of a pass as the plan draws them: those of each region in its order, all others where they are."""
    order = list(steps)
    first = order[0] if order else 0
    for region in found.regions:
        if order and first <= min(region.order) <= order[-1]:
            low = min(region.order) - first
            order[low : low + len(region.order)] = region.order
    return order
