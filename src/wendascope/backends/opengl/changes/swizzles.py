"""Textures that keep fewer channels, and are read as if they had them all."""

from __future__ import annotations

from wendascope.backends.opengl.objects.records import TextureRecord
from wendascope.backends.opengl.objects.texel_sizes import format_name
from wendascope.errors import TrialError
from wendascope.frame.distinct_channels import DistinctChannels
from wendascope.registry import GL

_WRAPS = ("TEXTURE_WRAP_S", "TEXTURE_WRAP_T", "TEXTURE_WRAP_R")
_SWIZZLES = {"0": GL.ZERO, "1": GL.ONE, "R": GL.RED, "G": GL.GREEN, "B": GL.BLUE, "A": GL.ALPHA}
_LETTERS = {value: letter for letter, value in _SWIZZLES.items()}


def without_border(record: TextureRecord) -> None:
    """Raises TrialError where a texture is read beyond its edge, where a colour lies that has channels of its own."""
    if any(int(record.parameters.get(wrap, [GL.REPEAT])[0]) == GL.CLAMP_TO_BORDER for wrap in _WRAPS):
        raise TrialError(f"texture {record.name} has a border, whose colour has channels of its own")


def swizzled(record: TextureRecord, channels: DistinctChannels) -> dict[str, list[float]]:
    """The texture's own swizzles, through those that find its channels in fewer. Raises TrialError where the context
    knows none.
    """
    if "TEXTURE_SWIZZLE_R" not in record.parameters:
        raise TrialError(f"texture {record.name} belongs to a context that knows no swizzles")
    found = {}
    for letter in "RGBA":
        parameter = f"TEXTURE_SWIZZLE_{letter}"
        own = _LETTERS.get(int(record.parameters[parameter][0]))
        if own is None:
            raise TrialError(f"texture {record.name} of {format_name(record.format)} is swizzled in no way known here")
        found[parameter] = [float(_SWIZZLES[own if own in "01" else channels.swizzle(own)])]
    return found
