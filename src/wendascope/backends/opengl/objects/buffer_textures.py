"""Buffer textures, as far as shaders of a context can read them."""

from __future__ import annotations

from collections.abc import Iterable

from wendascope.backends.opengl.state.offers import Offers
from wendascope.frame.context import ContextInfo
from wendascope.glsl.versions import Version

_LEAST = 65536
"""Texels that every context with buffer textures has (OpenGL 4.6 core, table 23.62)."""


def buffer_texels(context: ContextInfo, offers: Offers, versions: Iterable[Version]) -> int:
    """Texels that shaders of some versions of GLSL can read from one buffer texture; 0 where they can read none."""
    if not offers("glTexBuffer") or not all(version.has_buffer_textures for version in versions):
        return 0
    return context.limits.get("MAX_TEXTURE_BUFFER_SIZE", _LEAST)
