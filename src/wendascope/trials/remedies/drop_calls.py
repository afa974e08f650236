"""Leave out calls that change nothing."""

from __future__ import annotations

from wendascope.backends.doors import Changes
from wendascope.frame.call_use import OVERWRITTEN, REPEATS
from wendascope.frame.remedy import Remedy
from wendascope.trials.remedies._kinds import Claim, Trying, declare
from wendascope.trials.remedies._recipes import recipe

declare("drop-calls", Claim.SAME, Trying.TOGETHER)


@recipe("drop-repeats", Claim.SAME, Trying.TOGETHER)
def drop_repeats(change: Changes, _item: Remedy) -> None:
    """Leave out calls that set what is set already."""
    change.redundant.add(REPEATS)


@recipe("drop-needless", Claim.SAME, Trying.TOGETHER)
def drop_needless(change: Changes, _item: Remedy) -> None:
    """Leave out those as well whose value is set again before it is used."""
    change.redundant |= {REPEATS, OVERWRITTEN}
