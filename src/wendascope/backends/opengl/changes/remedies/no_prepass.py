"""Leave a depth-only pre-pass out: the steps after it test and write depth as if there had been none."""

from __future__ import annotations

from wendascope.backends.opengl.calls.packed import CallBatch
from wendascope.backends.opengl.changes.frame_change import FrameChange, lowers
from wendascope.frame.remedy import Remedy
from wendascope.registry import GL


@lowers("no-prepass")
def no_prepass(change: FrameChange, item: Remedy) -> None:
    """Leave out the depth-only steps; those that follow test and write depth themselves."""
    change.dropped |= set(item.steps)
    for step in item.order:  # the steps that follow
        batch = CallBatch()
        batch.call("glDepthFunc", GL.LEQUAL)
        batch.call("glDepthMask", 1)
        change.before[step] = batch
        _put_back(change, step)


def _put_back(change: FrameChange, step: int) -> None:
    """Depth state as the program has it, before the step after."""
    frame = change.frame
    after = step + 1
    if after >= len(frame.steps) or after in change.before:
        return
    call = int(frame.steps.begin[after])
    batch = CallBatch()
    batch.call("glDepthFunc", frame.history.number("depth_func", call, missing=GL.LESS))
    batch.call("glDepthMask", frame.history.number("depth_mask", call, missing=1))
    change.before[after] = batch
