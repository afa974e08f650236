"""Textures of one colour as one texel, wherever the frame names them."""

from __future__ import annotations

from wendascope.backends.opengl.changes.frame_change import FrameChange, lowers
from wendascope.backends.opengl.changes.images import middle_texel, replace_each
from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.backends.opengl.objects.records import TextureRecord
from wendascope.errors import TrialError
from wendascope.frame.remedy import Remedy


@lowers("single-texel")
def single_texel(change: FrameChange, item: Remedy) -> None:
    """Give some textures one texel, that in their middle. Raises TrialError."""
    replace_each(change, item.textures, _one)


def _one(frame: OpenGLFrame, record: TextureRecord, name: int) -> TextureRecord:
    texel = middle_texel(frame, record, name)
    if texel is None:
        raise TrialError(f"texture {record.name} is stored in a way that is not made smaller here")
    return texel
