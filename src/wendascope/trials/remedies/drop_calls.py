"""Leave out calls that set what is already set, or what is replaced before anything uses it."""

from __future__ import annotations

from wendascope.analysis.remedy import Remedy
from wendascope.frame.call_use import OVERWRITTEN, REPEATS
from wendascope.trials.remedies._registry import FrameChange, remedy


@remedy("drop-repeats")
def drop_repeats(change: FrameChange, _item: Remedy) -> None:
    """Leave out calls that set what is set already."""
    change.redundant.add(REPEATS)


@remedy("drop-needless")
def drop_redundant(change: FrameChange, _item: Remedy) -> None:
    """Leave out those as well whose value is set again before it is used."""
    change.redundant |= {REPEATS, OVERWRITTEN}
