"""Passes left out whose images stay as they were: as the same frame leaves them, or as an earlier one did."""

from __future__ import annotations

from wendascope.backends.doors import Changes
from wendascope.errors import TrialError
from wendascope.frame.remedy import Remedy
from wendascope.trials.remedies._kinds import Claim, Trying
from wendascope.trials.remedies._recipes import recipe


@recipe("keep-result", Claim.SAME, Trying.BY_ITSELF)
def keep_result(change: Changes, item: Remedy) -> None:
    """Leave out whole passes. What they draw into keeps what it held: from before the frame where that was captured,
    else what the same frame, run just before, left there. It counts as a result, not as something left by chance.
    """
    change.kept |= _images(change, item)
    for step in item.steps:
        change.leave_out(step)


@recipe("older-result", Claim.NEARLY)
def older_result(change: Changes, item: Remedy) -> None:
    """The same with what they drew in an earlier frame of the sequence: the picture shows how late it is."""
    images = _images(change, item)
    if item.frames_ago < 1 or images & change.earlier.keys():
        raise TrialError("an image cannot stay from two frames at once")
    change.earlier |= dict.fromkeys(images, item.frames_ago)
    for step in item.steps:
        change.leave_out(step)


def _images(change: Changes, item: Remedy) -> set[tuple[str, int]]:
    """What the passes draw into. Raises TrialError where that is the window."""
    frame = change.frame
    targets = [
        frame.passes.targets[index] for index in sorted({int(frame.passes.of_step[step]) for step in item.steps})
    ]
    if not all(target.framebuffer for target in targets):
        raise TrialError("the window keeps nothing from frame to frame")
    return {(attachment.kind, attachment.name) for target in targets for attachment in target.attachments}
