"""Leave a depth-only pre-pass out: the steps after it test and write depth as if there had been none."""

from __future__ import annotations

from wendascope.trials.remedies._kinds import Claim, Clash, Trying, declare

declare("no-prepass", Claim.SAME, Trying.SHADERS, clash=Clash.STEPS)
