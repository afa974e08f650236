"""Steps without multisampling: every pixel is covered, or it is not."""

from __future__ import annotations

from wendascope.trials.remedies._kinds import Claim, Gains, Trying, declare

declare(
    "one-sample",
    Claim.NEARLY,
    Trying.BY_ITSELF,
    gains=Gains.MEMORY,
    nowhere_far=True,
    stands_for="multisampling was switched off, and the picture compared: its samples stay in memory here",
)
