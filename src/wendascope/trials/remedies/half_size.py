"""Full-screen steps drawn into a target of half or a quarter of the width and height, and scaled up where they were."""

from __future__ import annotations

from wendascope.trials.remedies._kinds import Claim, Clash, Trying, declare

declare("half-size", Claim.TRADE, Trying.BY_ITSELF, clash=Clash.STEPS)
