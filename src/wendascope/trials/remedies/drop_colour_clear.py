"""Leave the colour out of a clear; depth and stencil that the same call clears stay."""

from __future__ import annotations

from wendascope.trials.remedies._kinds import Claim, Trying, declare

declare("drop-colour-clear", Claim.SAME, Trying.TOGETHER)
