"""How texels are stored, whatever an API calls it."""

from __future__ import annotations

import re
from dataclasses import dataclass, field, replace

_SUFFIXES = {"unorm": "", "snorm": "_SNORM", "sfloat": "F", "uint": "UI", "sint": "I"}
_KINDS = {suffix: kind for kind, suffix in _SUFFIXES.items()}
_PLAIN = re.compile(r"(RGBA|RGB|RG|R)(8|16|32)(_SNORM|F|UI|I)?")
PACKED = {"10F_11F_11F": "R11F_G11F_B10F", "2_10_10_10": "RGB10_A2", "5_9_9_9": "RGB9_E5"}
"""How channels lie within one word, the last first -> what the trade calls it."""


@dataclass(frozen=True)
class Format:
    """Of a texture, a renderbuffer or a target. Two that store the same are equal, whatever they are called."""

    name: str = field(default="", compare=False)
    """As the API calls it, without its prefix."""
    channels: str = ""
    """`R`, `RGBA`, ..., `D`, `DS`, `S`; empty where that is not known."""
    bits: int = 0
    """Of each channel; 0 where they differ, in blocks, or where that is not known."""
    kind: str = ""
    """Of each channel: `unorm`, `snorm`, `sfloat`, `uint`, `sint`."""
    srgb: bool = False
    """Whether red, green and blue are encoded light."""
    block: str = ""
    """What compresses it: `BC1`, `ETC2`, `ASTC 6x5`, ...; empty for single texels."""
    packed: str = ""
    """How unequal channels lie within one word, the last first: `10F_11F_11F`."""

    @property
    def word(self) -> str:
        """What the trade calls it, for people and for remedies: `RGBA16F`."""
        if self.block:
            return self.block
        if self.packed:
            return PACKED[self.packed]
        if self.srgb:
            return f"SRGB{self.bits}" + (f"_ALPHA{self.bits}" if "A" in self.channels else "")
        return f"{self.channels}{self.bits}{_SUFFIXES.get(self.kind, '')}"

    @property
    def has_depth(self) -> bool:
        return "D" in self.channels

    @property
    def is_plain(self) -> bool:
        """Whether each texel has whole channels of the same width that hold no encoded light."""
        return bool(self.bits) and not (self.srgb or self.block or self.packed or set(self.channels) - set("RGBA"))

    def with_channels(self, count: int) -> Format:
        """The same with the first `count` of red, green, blue and alpha."""
        return replace(self, name="", channels="RGBA"[:count])


NO_TEXELS = Format()
"""Of what holds none, and of what is not known."""


def format_named(word: str) -> Format | None:
    """The format of a `word`; None for those of blocks, of encoded light and of depth, and for all others."""
    for packed, called in PACKED.items():
        if word == called:
            return Format(packed=packed)
    found = _PLAIN.fullmatch(word)
    return Format("", found[1], int(found[2]), _KINDS[found[3] or ""]) if found else None
