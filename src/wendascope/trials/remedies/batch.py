"""Draw steps together: one draw in place of the last of each part, and none in place of the others; or in the place
that an order gives them.
"""

from __future__ import annotations

from wendascope.backends.doors import Changes
from wendascope.frame.remedy import Remedy
from wendascope.trials.remedies._kinds import Claim, Clash, Trying
from wendascope.trials.remedies._recipes import recipe


@recipe("batch", Claim.SAME, Trying.DRAWS, clash=Clash.DRAWS)
def batch(change: Changes, item: Remedy) -> None:
    """Draw the parts' steps together; where the remedy has orders, with all their steps in those."""
    for order in item.orders:
        if order not in change.sequences:
            change.sequences.append(order)
    for part in item.parts:
        if part not in change.batches:
            change.batches.append(part)
