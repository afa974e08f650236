"""Draw with changed shaders: with values of the frame written in, sources that somebody edited, or sources
rewritten here.
"""

from __future__ import annotations

from wendascope.trials.remedies._kinds import Claim, Phase, Trying, declare

declare("bake-uniforms", Claim.SAME, Trying.SHADERS, phase=Phase.LAST, trade=lambda item: bool(item.values))
declare("edit-shader", Claim.TRADE, phase=Phase.FIRST)
declare("flat-colour", Claim.EXPERIMENT)
declare("no-lookups", Claim.EXPERIMENT)
declare("drop-loops", Claim.SAME, Trying.SHADERS)
declare("cut-loops", Claim.TRADE)
declare("simple-powers", Claim.NEARLY, Trying.BY_ITSELF)
declare("medium-precision", Claim.NEARLY, no_difference="this driver seems to compute medium precision as high")
declare("early-test", Claim.SAME)
declare("drop-varyings", Claim.SAME, Trying.SHADERS)
declare("drop-outputs", Claim.SAME, Trying.SHADERS)
declare("move-to-vertices", Claim.SAME, Trying.SHADERS)
