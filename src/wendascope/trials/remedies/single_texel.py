"""Textures of one colour as one texel, wherever the frame names them."""

from __future__ import annotations

from wendascope.trials.remedies._kinds import Claim, Gains, Trying, declare

declare("single-texel", Claim.SAME, Trying.TOGETHER, gains=Gains.MEMORY)
