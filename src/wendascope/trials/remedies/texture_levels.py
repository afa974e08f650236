"""Textures without their finest levels, and with the levels that they lack."""

from __future__ import annotations

from wendascope.trials.remedies._kinds import Claim, Gains, Trying, declare

declare("drop-levels", Claim.NEARLY, Trying.BY_ITSELF, gains=Gains.MEMORY)
declare("smaller-textures", Claim.TRADE, Trying.BY_ITSELF, gains=Gains.MEMORY)
declare("mip-levels", Claim.TRADE, Trying.BY_ITSELF)
