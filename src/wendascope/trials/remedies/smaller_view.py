"""A view drawn at half the width and height, and scaled up into its image when it is finished."""

from __future__ import annotations

from wendascope.trials.remedies._kinds import Claim, Clash, Trying, declare

declare("smaller-view", Claim.TRADE, Trying.BY_ITSELF, clash=Clash.STEPS)
