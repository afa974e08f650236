"""Textures with the same contents, or nearly the same, become one."""

from __future__ import annotations

from wendascope.trials.remedies._kinds import Claim, Gains, Trying, declare

declare("one-texture", Claim.SAME, Trying.TOGETHER, gains=Gains.MEMORY)
declare("near-texture", Claim.NEARLY, Trying.BY_ITSELF, gains=Gains.MEMORY)
