"""Textures without the channels that they store twice, or that are constant, and swizzles that read them as before."""

from __future__ import annotations

from wendascope.trials.remedies._kinds import Claim, Gains, Trying, declare

declare("fewer-channels", Claim.SAME, Trying.TOGETHER, gains=Gains.MEMORY)
