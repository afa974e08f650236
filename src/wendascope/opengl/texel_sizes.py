"""Bytes that images take, by the names of their formats: what the texels need, without what a driver adds."""

from __future__ import annotations

import functools
import re
from dataclasses import dataclass

from wendascope.opengl.formats import pixel_size
from wendascope.registry import tables

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


@dataclass(frozen=True)
class TexelSize:
    """`bytes` for a block of `width` x `height` x `depth` texels; `bits` of one texel where a block is one."""

    bits: float
    bytes: float
    width: int = 1
    height: int = 1
    depth: int = 1

    @property
    def compressed(self) -> bool:
        return self.width * self.height * self.depth > 1

    def image(self, width: int, height: int, depth: int = 1, samples: int = 1) -> int:
        """Bytes of one image, whole blocks at its edges."""
        blocks = -(-width // self.width) * -(-height // self.height) * -(-depth // self.depth)
        return int(blocks * self.bytes) * max(samples, 1)


def format_name(internal_format: int) -> str:
    """`RGBA8` of GL_RGBA8; the number where no name is known."""
    return tables().enum_name(internal_format, "InternalFormat").removeprefix("GL_")


@functools.cache
def texel_size(internal_format: int, format_: int = 0, type_: int = 0) -> TexelSize | None:
    """By the name of a sized format; else by the pixels that it was read with, which is how the driver stores it. None
    where neither tells.
    """
    name = format_name(internal_format)
    if "COMPRESSED" in name or "ETC1" in name:
        if found := _ASTC.search(name):
            width, height, depth = (int(part or 1) for part in found.groups())
            return TexelSize(128 / (width * height * depth), 16, width, height, depth)
        for pattern, size in _BLOCKS:
            if re.search(pattern, name):
                return TexelSize(size / 2, size, 4, 4)
        return None
    bits = _IRREGULAR.get(name) or sum(_channels(kind) * int(count) for kind, count in _PART.findall(name))
    if bits:
        return TexelSize(bits, bits / 8)
    if format_ and type_:
        try:
            size = pixel_size(format_, type_)
        except KeyError:
            return None
        return TexelSize(8 * size, size)
    return None


def _channels(kind: str) -> int:
    return len(kind.removeprefix("S")) if kind.endswith(("RGB", "RGBA", "BGRA")) else 2 if kind == "RG" else 1
