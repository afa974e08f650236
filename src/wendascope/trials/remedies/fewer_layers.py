"""Leave out blended layers that do little."""

from __future__ import annotations

from wendascope.backends.doors import Changes
from wendascope.frame.remedy import Remedy
from wendascope.trials.remedies._kinds import Claim, Trying
from wendascope.trials.remedies._recipes import recipe


@recipe("fewer-layers", Claim.TRADE, Trying.BY_ITSELF)
def fewer_layers(change: Changes, item: Remedy) -> None:
    """The layers are not drawn; the picture shows what that costs it."""
    change.dropped |= set(item.steps)
