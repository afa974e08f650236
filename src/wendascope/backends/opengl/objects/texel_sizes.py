"""Bytes that images take, by their formats: what the texels need, without what a driver adds."""

from __future__ import annotations

import functools

from wendascope.backends.opengl.objects.formats import pixel_size
from wendascope.registry import tables
from wendascope.registry.texels import UNSIZED, TexelSize, named_size

_GREY = ("ALPHA", "LUMINANCE", "LUMINANCE_ALPHA", "INTENSITY")


def format_name(internal_format: int) -> str:
    """`RGBA8` of GL_RGBA8; the number where no name is known."""
    return tables().enum_name(internal_format, "InternalFormat").removeprefix("GL_")


@functools.cache
def texel_size(internal_format: int, format_: int = 0, type_: int = 0) -> TexelSize | None:
    """By the name of a sized format; else by the pixels that it was read with, which is how the driver stores it. None
    where neither tells.
    """
    name = format_name(internal_format)
    if name in UNSIZED and name in _GREY:
        return TexelSize(UNSIZED[name])  # read as four channels, whatever is stored
    found = named_size(name)
    if found is None and "COMPRESSED" not in name and format_ and type_:
        try:
            return TexelSize(8 * pixel_size(format_, type_))
        except KeyError:
            return None
    return found
