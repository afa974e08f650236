"""Leave steps out: what is not visible, outside the view, or never read."""

from __future__ import annotations

from wendascope.analysis.findings import Remedy
from wendascope.trials.remedies._registry import FrameChange, remedy


@remedy("drop-steps")
def drop_steps(change: FrameChange, item: Remedy) -> None:
    change.dropped |= set(item.steps)
