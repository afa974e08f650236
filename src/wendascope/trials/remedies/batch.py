"""Draw steps together: one draw in place of the last of each part, and none in place of the others."""

from __future__ import annotations

from wendascope.analysis.findings import Remedy
from wendascope.trials.remedies._registry import FrameChange, remedy


@remedy("batch")
def batch(change: FrameChange, item: Remedy) -> None:
    """Draw the parts' steps together."""
    for part in item.parts:
        change.batches.append((part.how, part.steps))
