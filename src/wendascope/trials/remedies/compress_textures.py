"""Textures in blocks, which take an eighth to a half of the bytes and are decoded where they are read."""

from __future__ import annotations

from wendascope.trials.remedies._kinds import Claim, Gains, Trying, declare

declare("compress-textures", Claim.NEARLY, Trying.BY_ITSELF, gains=Gains.MEMORY)
