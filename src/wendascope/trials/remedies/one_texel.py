"""Every texture that some steps read becomes one texel: what is saved is the fetching of texels from memory."""

from __future__ import annotations

from wendascope.trials.remedies._kinds import Claim, declare

declare("one-texel", Claim.EXPERIMENT)
