"""Internal formats of OpenGL as neutral ones, and back, by their names."""

from __future__ import annotations

import functools
import re

from wendascope.backends.opengl.objects.texel_sizes import format_name
from wendascope.frame.formats import PACKED, Format
from wendascope.registry import tables

_PLAIN = re.compile(r"(S?)(RGBA|RGB|RG|R)(8|16|32)?(?:_(ALPHA)(?:8)?)?(_SNORM|F|UI|I)?")
_KINDS = {"": "unorm", "_SNORM": "snorm", "F": "sfloat", "UI": "uint", "I": "sint"}
_DEPTH = re.compile(r"(DEPTH|STENCIL)_(?:COMPONENT|INDEX)(\d*)(F?)(?:_\w+)?|(DEPTH)\d*F?_STENCIL8?(?:_\w+)?")
_UNSIZED = 8
"""Bits of a channel where a format names none: what drivers take."""
_PACKED = {name: packed for packed, name in PACKED.items()}
_BLOCKS = (
    (r"S?RGB_S3TC_DXT1", "BC1"), (r"(RGBA|SRGB_ALPHA)_S3TC_DXT1", "BC1A"), (r"(RGBA|SRGB_ALPHA)_S3TC_DXT3", "BC2"),
    (r"(RGBA|SRGB_ALPHA)_S3TC_DXT5", "BC3"), (r"RED_RGTC1", "BC4"), (r"SIGNED_RED_RGTC1", "BC4S"),
    (r"RG_RGTC2", "BC5"), (r"SIGNED_RG_RGTC2", "BC5S"), (r"RGB_BPTC_UNSIGNED_FLOAT", "BC6U"),
    (r"RGB_BPTC_SIGNED_FLOAT", "BC6S"), (r"(RGBA|SRGB_ALPHA)_BPTC_UNORM", "BC7"), (r"S?RGB8_ETC2", "ETC2"),
    (r"S?RGB8_PUNCHTHROUGH_ALPHA1_ETC2", "ETC2A1"), (r"(RGBA8|SRGB8_ALPHA8)_ETC2_EAC", "ETC2A8"),
    (r"R11_EAC", "R11"), (r"SIGNED_R11_EAC", "R11S"), (r"RG11_EAC", "RG11"), (r"SIGNED_RG11_EAC", "RG11S"),
)  # fmt: skip
"""(name without `COMPRESSED_` and its vendor, block)."""


@functools.cache
def texel_format(internal_format: int) -> Format:
    """What an internal format stores; a name alone where that is not known here."""
    return texel_format_named(format_name(internal_format))


def texel_format_named(name: str) -> Format:
    """The same by its name, without the prefix."""
    if name.startswith("COMPRESSED_"):
        return _block(name)
    if name in _PACKED:
        return Format(name, packed=_PACKED[name])
    depth = _DEPTH.fullmatch(name)
    if depth is not None:
        if depth[4]:
            return Format(name, "DS")
        return Format(name, depth[1][0], int(depth[2] or 0), "sfloat" if depth[3] else "unorm")
    plain = _PLAIN.fullmatch(name)
    if plain is None or (plain[4] and not plain[1]):
        return Format(name)
    channels = plain[2] + ("A" if plain[4] else "")
    return Format(name, channels, int(plain[3] or _UNSIZED), _KINDS[plain[5] or ""], bool(plain[1]))


def _block(name: str) -> Format:
    inner = re.sub(r"_(EXT|ARB|OES|NV|ANGLE|KHR)$", "", name.removeprefix("COMPRESSED_"))
    srgb = inner.startswith("SRGB")
    astc = re.fullmatch(r"(?:RGBA|SRGB8_ALPHA8)_ASTC_(\d+x\d+)", inner)
    if astc is not None:
        return Format(name, srgb=srgb, block=f"ASTC {astc[1]}")
    block = next((block for pattern, block in _BLOCKS if re.fullmatch(pattern, inner)), "")
    return Format(name, srgb=srgb, block=block)


@functools.cache
def _numbers() -> dict[Format, int]:
    """Format -> internal format; of several that store the same, the one that names its sizes."""
    found: dict[Format, int] = {}
    names = [name for name in tables().enum_value if name.startswith("GL_")]
    for name in sorted(names, key=lambda name: (not re.search(r"\d", name), name)):
        known = texel_format_named(name.removeprefix("GL_"))
        if known.channels or known.block or known.packed:
            found.setdefault(known, tables().enum_value[name])
    return found


def internal_format(wanted: Format) -> int | None:
    """The internal format that stores that; None where OpenGL has none."""
    return _numbers().get(wanted)
