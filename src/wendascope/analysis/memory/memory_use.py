"""What a frame makes of its memory, as measured in replay: mip levels that are read, values that targets hold."""

from __future__ import annotations

import msgspec

from wendascope.glsl.rewriting.levels import COUNTED_EACH_WAY

COUNTED_PART = COUNTED_EACH_WAY**2
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
    """Texture samples, by the shaders of visible and hidden fragments: of one fragment in `COUNTED_PART`."""
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


class TargetValues(msgspec.Struct):
    """What one render target of more than eight bits a channel holds after the frame, channel by channel."""

    object_class: str
    """`texture` or `renderbuffer`."""
    name: int
    channels: list[str]
    low: list[float]
    high: list[float]
    finite: bool
    """Whether all values are numbers."""

    @property
    def within_one(self) -> bool:
        """Whether formats that hold 0 to 1 could hold all of it."""
        return self.finite and min(self.low) >= 0.0 and max(self.high) <= 1.0

    @property
    def plain_alpha(self) -> bool:
        """Whether there is no alpha, or it is 1 everywhere."""
        if "alpha" not in self.channels:
            return True
        at = self.channels.index("alpha")
        return self.low[at] == self.high[at] == 1.0


class CompressedTexture(msgspec.Struct):
    """What block compression makes of one texture."""

    texture: int
    word: str
    """The format, as the trade calls it."""
    bytes: int
    """Of all levels."""
    psnr: float
    """dB, over the channels that it keeps; 99 where nothing is lost."""
    without_alpha: bool = False
    """Whether it is of blocks already, whose alpha is 1 everywhere: their colours stay bit for bit what they are."""


class MemoryUse(msgspec.Struct):
    """Of one frame, as a file keeps it."""

    sampled: SampledTextures
    targets: list[TargetValues] = []
    compressed: list[CompressedTexture] = []
    """Those that could be, the largest first, as far as there was time to compress them."""
