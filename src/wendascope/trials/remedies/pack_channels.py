"""Grey textures as channels of one texture: less memory, and one sample where they are read at one place."""

from __future__ import annotations

from wendascope.trials.remedies._kinds import Claim, Trying, declare

declare("pack-channels", Claim.SAME, Trying.SHADERS)
