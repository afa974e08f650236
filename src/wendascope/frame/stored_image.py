"""A texture as it is stored: every level with its bytes, for files that keep them as they are."""

from __future__ import annotations

from dataclasses import dataclass, field
from enum import Enum

from wendascope.frame.formats import Format


class Packing(Enum):
    """How texels lie in memory."""

    CHANNELS = "channels"
    """Whole bytes for each channel."""
    PACKED = "packed"
    """Channels within one word."""
    BLOCKS = "blocks"
    """Compressed."""


@dataclass(frozen=True)
class StoredImage:
    """`levels` hold the bytes of each, the largest first: layer by layer, in each face by face, bottom row first."""

    format: Format
    channels: str
    """`RGBA`, `BGR`, `D`, ...: in the order in which they lie."""
    kind: str
    """Of one channel: `unorm8`, `snorm16`, `uint32`, `sfloat16`, ... or what packs several, `10F_11F_11F`."""
    packing: Packing
    width: int
    height: int
    depth: int
    layers: int
    """0 where it is no array."""
    faces: int
    levels: list[bytes] = field(default_factory=list)

    @property
    def srgb(self) -> bool:
        return self.format.srgb

    @property
    def solid(self) -> bool:
        """Whether all texels of all levels are the same. Blocks are not looked into."""
        if self.packing is Packing.BLOCKS or not self.levels[0]:
            return False
        texels = max(self.width, 1) * max(self.height, 1) * max(self.depth, 1) * max(self.layers, 1) * self.faces
        first = self.levels[0][: len(self.levels[0]) // texels]
        return bool(first) and all(level == first * (len(level) // len(first)) for level in self.levels)
