"""Compressed textures without an alpha that is 1 everywhere: the colours of their blocks, as they are."""

from __future__ import annotations

from wendascope.trials.remedies._kinds import Claim, Gains, Trying, declare

declare("opaque-blocks", Claim.NEARLY, Trying.BY_ITSELF, gains=Gains.MEMORY)
