"""Which mip levels of its textures a frame reads, as measured in replay."""

from __future__ import annotations

import msgspec

NEVER = 1000.0
"""In place of a level: nothing was read."""


class SampledTexture(msgspec.Struct):
    """What all fragments of a frame read of one texture."""

    texture: int
    finest: float
    """The finest level that was read."""
    wanted: float
    """The finest that would be read if there were levels without end: below 0 where a texel covers more than a pixel;
    1 where every pixel covers two texels each way, or more.
    """
    samples: int
    """Texture samples, by the shaders of visible and hidden fragments."""
    minified: int
    """Of them those for which a texel is half a pixel or less."""
    steps: list[int]


class SampledTextures(msgspec.Struct):
    """All of a frame whose every reader could be followed."""

    textures: list[SampledTexture] = []
    unclear: list[int] = []
    """Textures that something reads in a way that was not followed."""
    refused: str = ""
    """Why nothing was measured."""

    def of(self, texture: int) -> SampledTexture | None:
        return next((row for row in self.textures if row.texture == texture), None)
