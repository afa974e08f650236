"""Several glBegin ... glEnd as one."""

from __future__ import annotations

from wendascope.trials.remedies._kinds import Claim, Trying, declare

declare("join-immediate", Claim.SAME, Trying.DRAWS)
