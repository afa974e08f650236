"""Blended steps drawn only where they change a colour: cut by the scissor, or left out where that is nowhere."""

from __future__ import annotations

from wendascope.trials.remedies._kinds import Claim, Trying, declare

declare("clip", Claim.SAME, Trying.SHADERS)
