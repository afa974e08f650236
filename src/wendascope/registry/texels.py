"""Bits of texels by the names of formats: for Python, and for the table of the tap."""

from __future__ import annotations

import re
from dataclasses import dataclass

_PART = re.compile(
    r"(S?RGBA|S?RGB|RG|BGRA|R|G|B|A|ALPHA|S?LUMINANCE|INTENSITY|DEPTH_COMPONENT|DEPTH|STENCIL_INDEX|STENCIL)(\d+)"
)
_IRREGULAR = {"RGB565": 16, "RGB9_E5": 32, "DEPTH32F_STENCIL8": 64, "DEPTH32F_STENCIL8_NV": 64}
"""Bits of formats whose names do not add up: 24 bits of the last two are unused."""
_BLOCKS = (
    (r"S3TC_DXT1|RGTC1|RED_RGTC|LATC1|ETC1|RGB8_ETC2|SRGB8_ETC2|PUNCHTHROUGH|(R11|SIGNED_R11)_EAC", 8),
    (r"S3TC_DXT[35]|RGTC2|RG_RGTC|LATC2|BPTC|RG11_EAC|ETC2_EAC", 16),
)
"""(what the name of a compressed format holds, bytes of a block of 4 x 4 texels)."""
_ASTC = re.compile(r"ASTC_(\d+)x(\d+)(?:x(\d+))?")
UNSIZED = {
    "RGBA": 32, "RGB": 24, "RG": 16, "RED": 8, "ALPHA": 8, "LUMINANCE": 8, "LUMINANCE_ALPHA": 16, "INTENSITY": 8,
    "SRGB": 24, "SRGB_ALPHA": 32, "BGRA": 32, "DEPTH_COMPONENT": 32, "DEPTH_STENCIL": 32, "STENCIL_INDEX": 8,
}  # fmt: skip
"""Formats that leave their bits to the driver, and what drivers mostly take: for where nobody asks the driver."""


@dataclass(frozen=True)
class TexelSize:
    """`bits` for a block of `width` x `height` x `depth` texels, which is one texel where nothing is compressed."""

    bits: int
    width: int = 1
    height: int = 1
    depth: int = 1

    @property
    def compressed(self) -> bool:
        return self.width * self.height * self.depth > 1

    @property
    def of_a_texel(self) -> float:
        """Bits, on the average."""
        return self.bits / (self.width * self.height * self.depth)

    def image(self, width: int, height: int, depth: int = 1, samples: int = 1) -> int:
        """Bytes of one image, whole blocks at its edges."""
        blocks = -(-width // self.width) * -(-height // self.height) * -(-depth // self.depth)
        return -(-blocks * self.bits // 8) * max(samples, 1)


def named_size(name: str) -> TexelSize | None:
    """By the name of a sized format, without GL_; None where it names no sizes."""
    if "COMPRESSED" in name or "ETC1" in name:
        if found := _ASTC.search(name):
            return TexelSize(128, *(int(part or 1) for part in found.groups()))
        for pattern, size in _BLOCKS:
            if re.search(pattern, name):
                return TexelSize(8 * size, 4, 4)
        return None
    bits = _IRREGULAR.get(name) or sum(_channels(kind) * int(count) for kind, count in _PART.findall(name))
    return TexelSize(bits) if bits else None


def _channels(kind: str) -> int:
    return len(kind.removeprefix("S")) if kind.endswith(("RGB", "RGBA", "BGRA")) else 2 if kind == "RG" else 1
