"""One light left out: an element of an array that shaders go through, or a light of the fixed-function pipeline."""

from __future__ import annotations

from wendascope.trials.remedies._kinds import Claim, Trying, declare

declare("without-element", Claim.SAME, Trying.TOGETHER, measured_anyway=True)
declare("light-off", Claim.SAME, Trying.TOGETHER, measured_anyway=True)
