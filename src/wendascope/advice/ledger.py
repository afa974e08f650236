"""What is left of the frame's time while changes are subtracted: nothing is ever saved twice."""

from __future__ import annotations

from collections.abc import Collection

import numpy as np

from wendascope.advice.findings import Case


class Ledger:
    """Time of every step that is still there, on both sides and in the program itself, in ms. Gains are taken out of
    the steps that they come from, and no more than these hold.
    """

    def __init__(self, case: Case, gpu_ms: float, cpu_ms: float) -> None:
        self.gpu = _Side(case.step_ms, gpu_ms)
        self.cpu = _Side(case.step_submit_ms, cpu_ms)
        self.own = _Side(case.step_own_ms, float(case.step_own_ms.sum()))
        """The program's own time between the calls of the frame."""


class _Side:
    def __init__(self, of_steps: np.ndarray | None, whole_ms: float) -> None:
        self.left_ms = whole_ms
        """Of the frame."""
        self._steps = None if of_steps is None else of_steps.astype(float).copy()

    def left_of(self, steps: Collection[int]) -> float:
        """What some steps (none: the frame) still hold, ms."""
        if self._steps is None or not steps:
            return self.left_ms
        return min(float(self._steps[np.unique(list(steps))].sum()), self.left_ms)

    def take(self, steps: Collection[int], ms: float) -> float:
        """Subtract a gain of some steps (none: of the frame). Returns how much of it there was to take, ms."""
        ms = min(max(ms, 0.0), self.left_ms)
        if self._steps is not None and steps:
            chosen = np.unique(list(steps))
            have = float(self._steps[chosen].sum())
            ms = min(ms, have)
            if have > 0:
                self._steps[chosen] *= 1.0 - ms / have
        self.left_ms -= ms
        return ms
