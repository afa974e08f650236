"""A render target with fewer bits a texel."""

from __future__ import annotations

from wendascope.trials.remedies._kinds import Claim, Gains, Trying, declare

declare("narrower-target", Claim.NEARLY, Trying.BY_ITSELF, gains=Gains.MEMORY)
