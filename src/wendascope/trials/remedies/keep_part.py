"""The part of a pass that is the same in every frame, drawn once: its image is copied in the place of its draws."""

from __future__ import annotations

from wendascope.trials.remedies._kinds import Claim, Trying, declare

declare("keep-part", Claim.SAME, Trying.BY_ITSELF)
