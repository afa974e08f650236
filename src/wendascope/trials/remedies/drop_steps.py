"""Leave steps out: what is not visible, outside the view, or never read."""

from __future__ import annotations

from wendascope.backends.doors import Changes
from wendascope.frame.remedy import Remedy
from wendascope.trials.remedies._kinds import Claim, Trying
from wendascope.trials.remedies._recipes import recipe


@recipe("drop-steps", Claim.SAME, Trying.TOGETHER, leaves_out=True)
def drop_steps(change: Changes, item: Remedy) -> None:
    """Leave out steps; where they count towards the picture, something cheap takes their place."""
    for step in item.steps:
        change.leave_out(step, painted=True)
