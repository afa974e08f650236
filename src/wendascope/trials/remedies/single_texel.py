"""Textures of one colour as one texel, wherever the frame names them."""

from __future__ import annotations

from wendascope.analysis.remedy import Remedy
from wendascope.errors import TrialError
from wendascope.trials.remedies._images import middle_texel, not_uploaded, plain_texture, replace_texture
from wendascope.trials.remedies._registry import FrameChange, remedy


@remedy("single-texel")
def single_texel(change: FrameChange, item: Remedy) -> None:
    """Give some textures one texel, that in their middle. Raises TrialError."""
    for name in item.textures:
        record = plain_texture(change.frame, name)
        not_uploaded(change.frame, name)
        texel = middle_texel(change.frame, record, change.new.name())
        if texel is None:
            raise TrialError(f"texture {name} is stored in a way that is not made smaller here")
        replace_texture(change, record, texel)
