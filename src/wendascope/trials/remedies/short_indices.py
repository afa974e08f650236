"""Indices of 16 bits in the place of those of 32."""

from __future__ import annotations

from wendascope.trials.remedies._kinds import Claim, Gains, Trying, declare

declare("short-indices", Claim.SAME, Trying.TOGETHER, gains=Gains.MEMORY)
