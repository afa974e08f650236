"""Textures of one colour as one texel, wherever the frame names them."""

from __future__ import annotations

from wendascope.analysis.remedy import Remedy
from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.backends.opengl.objects.records import TextureRecord
from wendascope.errors import TrialError
from wendascope.trials.remedies._images import middle_texel, replace_each
from wendascope.trials.remedies._kinds import Claim, Gains, Trying
from wendascope.trials.remedies._registry import FrameChange, remedy


@remedy("single-texel", Claim.SAME, Trying.TOGETHER, gains=Gains.MEMORY)
def single_texel(change: FrameChange, item: Remedy) -> None:
    """Give some textures one texel, that in their middle. Raises TrialError."""
    replace_each(change, item.textures, _one)


def _one(frame: OpenGLFrame, record: TextureRecord, name: int) -> TextureRecord:
    texel = middle_texel(frame, record, name)
    if texel is None:
        raise TrialError(f"texture {record.name} is stored in a way that is not made smaller here")
    return texel
