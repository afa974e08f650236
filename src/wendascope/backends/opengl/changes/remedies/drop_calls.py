"""Leave out calls that set or write what is there already, or what is replaced before anything uses it."""

from __future__ import annotations

from wendascope.backends.opengl.calls.packed import CallBatch
from wendascope.backends.opengl.changes.frame_change import FrameChange, lowers
from wendascope.backends.opengl.tables.written import buffer_writes, texture_writes
from wendascope.errors import TrialError
from wendascope.frame.remedy import Remedy


@lowers("drop-calls")
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
