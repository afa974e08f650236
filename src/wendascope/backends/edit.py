"""Edits of a frame: calls put in, and calls left out. What calls are is a backend's own business."""

from __future__ import annotations

from abc import ABC, abstractmethod
from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt


class Calls(ABC):
    """Calls of one API, to be put into a frame, or to be run between two runs of it."""

    @abstractmethod
    def append(self, other: Calls) -> None:
        """Add others of the same API, which give nothing back."""


@dataclass
class Insertion:
    """Calls (in captured names) to put before call `before`; the number of calls of the frame puts them at the end.

    What `closes` belongs to the call before it: it comes ahead of other insertions at its place, and whoever goes
    through the frame in pieces runs it with that call. What `undoes` puts back what other insertions changed of the
    frame's own objects: it runs where the frame is cut off before its place, too.
    """

    before: int
    calls: Calls
    closes: bool = False
    undoes: bool = False


@dataclass
class Edit:
    """What to change. `keep_until` cuts the frame off after that many calls; `drop` names calls to leave out."""

    insertions: list[Insertion] = field(default_factory=list)
    drop: npt.NDArray[np.bool_] | None = None
    keep_until: int | None = None


def enclosing(spans: list[tuple[int, int]], around: list[tuple[Calls, Calls]]) -> tuple[list[Insertion], list[int]]:
    """Insertions that put calls before and after each span, and which of them each is (2n before span n, 2n + 1
    after).

    Where one span ends and the next begins, the end comes first.
    """
    made = []
    for (first, end), (before, after) in zip(spans, around, strict=True):
        made += [Insertion(first, before), Insertion(end, after)]
    order = sorted(range(len(made)), key=lambda i: (made[i].before, i % 2 == 0, i))
    return [made[i] for i in order], order
