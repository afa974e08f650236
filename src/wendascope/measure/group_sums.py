"""What groups of steps come to: how many they are, what they draw, and how long they take."""

from __future__ import annotations

import msgspec
import numpy as np

from wendascope.frame.frame import Frame
from wendascope.measure.records import Survey


class GroupSum(msgspec.Struct):
    """All steps of one group."""

    name: str
    steps: int
    triangles: int
    """Instances included."""
    passes: int
    """In how many passes they are."""
    ms: float | None
    """Sum of the times of the steps, each alone; None before a survey."""
    share: float | None
    """Of the times of all steps."""
    fragments: int | None
    """That passed all tests; None where they were not counted."""


def group_sums(frame: Frame, by: str, survey: Survey | None) -> list[GroupSum]:
    """The groups by one of `frame.grouping.BY`: the most expensive first; without a survey, the largest."""
    groups = frame.grouping.by(by)
    alone = np.array(survey.steps.ms) if survey else None
    counted = np.array(survey.fragments) if survey and survey.fragments else None
    total = float(alone.sum()) if alone is not None else 0.0
    found = []
    for group, steps in groups.parts(np.arange(len(frame.steps))):
        ms = float(alone[steps].sum()) if alone is not None else None
        found.append(
            GroupSum(
                groups.name(group),
                len(steps),
                int(frame.steps.triangles[steps].sum()),
                len(np.unique(frame.passes.of_step[steps])),
                ms,
                ms / total if ms is not None and total else None,
                int(counted[steps].sum()) if counted is not None else None,
            )
        )
    return sorted(found, key=lambda item: (-(item.ms or 0.0), -item.steps))
