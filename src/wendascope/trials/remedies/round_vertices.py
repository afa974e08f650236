"""Vertices with the values that narrower attributes would give: what is compared is the picture."""

from __future__ import annotations

from wendascope.trials.remedies._kinds import Claim, Gains, Trying, declare

declare(
    "round-vertices",
    Claim.NEARLY,
    Trying.BY_ITSELF,
    gains=Gains.MEMORY,
    stands_for="narrower attributes are not made here: their values were rounded, and the picture compared",
)
