"""What a step reads and what it writes: objects in memory, and who wrote each of them last."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from wendascope.frame.frame import Frame
from wendascope.frame.memory import MemoryItem
from wendascope.frame.numbers import Ints


@dataclass(frozen=True)
class StepObject:
    """One object as a step uses it."""

    item: MemoryItem
    written: bool
    """Whether the step writes it; else it reads it."""
    parts: tuple[str, ...]
    """What it is read as: `vertices`, `indices`, `uniform block`; empty where that is all one."""
    writer: int
    """The last step before this one that writes it; -1 where it is as it was when the frame began."""

    @property
    def is_image(self) -> bool:
        return self.item.object_class in ("texture", "renderbuffer") and bool(self.item.width)


def objects_of(frame: Frame, step: int) -> tuple[list[StepObject], list[StepObject]]:
    """(what a step reads, what it writes), images first and larger ones before smaller. What a step both reads and
    writes is among both.
    """
    reads, writes = [], []
    for item in frame.memory:
        if _has(item.reads, step):
            parts = tuple(name for name, steps in item.read_parts.items() if _has(steps, step))
            reads.append(StepObject(item, False, parts, _before(item.writes, step)))
        if _has(item.writes, step):
            writes.append(StepObject(item, True, (), _before(item.writes, step)))
    for found in (reads, writes):
        found.sort(key=lambda thing: (not thing.is_image, -thing.item.size, thing.item.name))
    return reads, writes


def _has(steps: Ints, step: int) -> bool:
    at = int(np.searchsorted(steps, step))
    return at < len(steps) and int(steps[at]) == step


def _before(steps: Ints, step: int) -> int:
    at = int(np.searchsorted(steps, step))
    return int(steps[at - 1]) if at else -1
