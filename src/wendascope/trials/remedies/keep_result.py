"""Passes left out whose images stay as they were."""

from __future__ import annotations

from wendascope.analysis.findings import Remedy
from wendascope.errors import TrialError
from wendascope.trials.remedies._registry import FrameChange, remedy


@remedy("keep-result")
def keep_result(change: FrameChange, item: Remedy) -> None:
    """Leave out whole passes. What they draw into keeps what it held: from before the frame where that was captured,
    else what the same frame, run just before, left there. It counts as a result, not as something left by chance.
    """
    frame = change.frame
    for index in sorted({int(frame.passes.of_step[step]) for step in item.steps}):
        target = frame.passes.targets[index]
        if not target.framebuffer:
            raise TrialError("the window keeps nothing from frame to frame")
        change.kept |= {(attachment.kind, attachment.name) for attachment in target.attachments}
    for step in item.steps:
        change.leave_out(step, None)
