"""Leave out blended layers that do little."""

from __future__ import annotations

from wendascope.analysis.remedy import Remedy
from wendascope.trials.remedies._kinds import Claim, Trying
from wendascope.trials.remedies._registry import FrameChange, remedy


@remedy("fewer-layers", Claim.TRADE, Trying.BY_ITSELF)
def fewer_layers(change: FrameChange, item: Remedy) -> None:
    """The layers are not drawn; the picture shows what that costs it."""
    change.dropped |= set(item.steps)
