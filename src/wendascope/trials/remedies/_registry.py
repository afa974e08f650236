"""Gathers what remedies do to a frame, so that several can be tried as one edited frame."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, field

import numpy as np

from wendascope.analysis.findings import Remedy
from wendascope.discovery import import_all
from wendascope.errors import TrialError
from wendascope.frame.frame import Frame
from wendascope.frame.packed import Batch
from wendascope.replay.edit import Edit, Insertion
from wendascope.trials.reorder import reordered


@dataclass
class FrameChange:
    """Everything that is to be different. Remedies write into it; `edit` makes one edited frame of it."""

    frame: Frame
    dropped: set[int] = field(default_factory=set)
    """Steps left out."""
    orders: list[list[int]] = field(default_factory=list)
    """Runs of steps in the order in which they are to come."""
    replaced: dict[int, Batch] = field(default_factory=dict)
    """Call -> calls in its place."""
    before: dict[int, Batch] = field(default_factory=dict)
    """Step -> calls put before it."""

    def edit(self) -> Edit:
        """Raises TrialError, saying what stands in the way."""
        frame, steps = self.frame, self.frame.steps
        drop = np.zeros(len(frame.calls), bool)
        insertions = []
        ordered: set[int] = set()
        for order in self.orders:
            kept = [step for step in order if step not in self.dropped]
            if ordered & set(order):
                raise TrialError("two remedies want the same steps in different orders")
            ordered |= set(order)
            if any(step in self.before for step in kept):
                raise TrialError("one remedy moves a step that another changes")
            region, batch = reordered(frame, sorted(order), kept)
            drop[region[0] : region[1]] = True
            insertions.append(Insertion(region[0], batch))
        for step in self.dropped - ordered:
            drop[int(steps.begin[step]) : int(steps.call[step]) + 1] = True
        for step, batch in self.before.items():
            if step not in self.dropped:
                insertions.append(Insertion(int(steps.begin[step]), batch))
        for call, batch in self.replaced.items():
            if not drop[call]:
                drop[call] = True
                insertions.append(Insertion(call, batch))
        return Edit(insertions, drop)


Apply = Callable[[FrameChange, Remedy], None]
_kinds: dict[str, Apply] = {}


def remedy(kind: str) -> Callable[[Apply], Apply]:
    """Register what a kind of remedy does to a frame."""

    def register(apply: Apply) -> Apply:
        _kinds[kind] = apply
        return apply

    return register


def change_of(frame: Frame, remedies: Iterable[Remedy]) -> FrameChange:
    """All of them together. Raises TrialError."""
    import_all("wendascope.trials.remedies")
    change = FrameChange(frame)
    for item in remedies:
        if item.kind not in _kinds:
            raise TrialError(f"this version knows no remedy called {item.kind}")
        last = len(frame.steps)
        if any(not 0 <= step < last for step in (*item.steps, *item.order)):
            raise TrialError("the remedy names steps that the frame does not have")
        _kinds[item.kind](change, item)
    return change
