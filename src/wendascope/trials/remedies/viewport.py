"""Draw into less of the target: one pixel of it, or a half or a quarter of its width and height."""

from __future__ import annotations

from wendascope.trials.remedies._kinds import Claim, declare

declare("tiny-viewport", Claim.EXPERIMENT)
declare("smaller-viewport", Claim.EXPERIMENT)
