"""Draw a run of steps in another order."""

from __future__ import annotations

from wendascope.backends.doors import Changes
from wendascope.errors import TrialError
from wendascope.frame.remedy import Remedy
from wendascope.trials.remedies._kinds import Claim, Clash, Trying
from wendascope.trials.remedies._recipes import recipe


@recipe("reorder-steps", Claim.SAME, Trying.BY_ITSELF, clash=Clash.ORDER)
def reorder_steps(change: Changes, item: Remedy) -> None:
    """Run the steps in another order. Raises TrialError unless they follow one another."""
    if sorted(item.order) != sorted(item.steps) or sorted(item.steps) != list(
        range(min(item.steps, default=0), max(item.steps, default=-1) + 1)
    ):
        raise TrialError("the new order is not one of the same steps, one after the other")
    change.orders.append(item.order)
