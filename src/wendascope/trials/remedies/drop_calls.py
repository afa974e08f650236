"""Leave out calls that set or write what is there already, or what is replaced before anything uses it."""

from __future__ import annotations

from wendascope.analysis.remedy import Remedy
from wendascope.backends.opengl.calls.packed import CallBatch
from wendascope.backends.opengl.tables.written import buffer_writes, texture_writes
from wendascope.errors import TrialError
from wendascope.frame.call_use import OVERWRITTEN, REPEATS
from wendascope.trials.remedies._kinds import Claim, Trying
from wendascope.trials.remedies._registry import FrameChange, remedy


@remedy("drop-repeats", Claim.SAME, Trying.TOGETHER)
def drop_repeats(change: FrameChange, _item: Remedy) -> None:
    """Leave out calls that set what is set already."""
    change.redundant.add(REPEATS)


@remedy("drop-needless", Claim.SAME, Trying.TOGETHER)
def drop_redundant(change: FrameChange, _item: Remedy) -> None:
    """Leave out those as well whose value is set again before it is used."""
    change.redundant |= {REPEATS, OVERWRITTEN}


@remedy("drop-calls", Claim.SAME, Trying.TOGETHER)
def drop_calls(change: FrameChange, item: Remedy) -> None:
    """Leave out single calls that are no steps. What they write holds it already, from before the frame. Raises
    TrialError where the frame has no such calls.
    """
    steps = set(change.frame.steps.call.tolist())
    for call in item.calls:
        if not 0 <= call < len(change.frame.calls) or call in steps:
            raise TrialError("the remedy names calls that the frame does not have, or that are steps")
        change.put_in_place(call, CallBatch())
    dropped = set(item.calls)
    for kind, writes in (("buffer", buffer_writes(change.frame)), ("texture", texture_writes(change.frame))):
        change.kept |= {(kind, name) for name, rows in writes.items() if dropped & set(rows.tolist())}
