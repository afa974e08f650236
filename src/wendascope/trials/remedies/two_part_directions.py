"""Unit vectors in two channels, and shaders that rebuild the third."""

from __future__ import annotations

from wendascope.trials.remedies._kinds import Claim, Gains, Trying, declare

declare("two-part-directions", Claim.NEARLY, Trying.BY_ITSELF, gains=Gains.MEMORY)
