"""Textures as KTX 2 files (the Khronos Texture format, version 2.0), with their texels as they are stored."""

from __future__ import annotations

import math
import re
import struct
from dataclasses import dataclass

from wendascope.errors import UsageError
from wendascope.frame.stored_image import Packing, StoredImage

IDENTIFIER = b"\xabKTX 20\xbb\r\n\x1a\n"
_CHANNELS = {
    ("R", 8): 9, ("RG", 8): 16, ("RGB", 8): 23, ("BGR", 8): 30, ("RGBA", 8): 37, ("BGRA", 8): 44,
    ("R", 16): 70, ("RG", 16): 77, ("RGB", 16): 84, ("RGBA", 16): 91,
    ("R", 32): 98, ("RG", 32): 101, ("RGB", 32): 104, ("RGBA", 32): 107,
}  # fmt: skip
"""(channels, bits of each) -> the Vulkan format of the first kind that there is of them."""
_KINDS = {
    8: ("unorm", "snorm", "", "", "uint", "sint", "srgb"),
    16: ("unorm", "snorm", "", "", "uint", "sint", "sfloat"),
    32: ("uint", "sint", "sfloat"),
}
"""Bits -> kinds in the order in which Vulkan numbers them."""
_PACKED = {"10F_11F_11F": 122, "5_9_9_9": 123, "2_10_10_10": 64}
_BLOCKS = {
    "BC1": (131, 128, 8), "BC1A": (133, 128, 8), "BC2": (135, 129, 16), "BC3": (137, 130, 16), "BC4": (139, 131, 8),
    "BC4S": (140, 131, 8), "BC5": (141, 132, 16), "BC5S": (142, 132, 16), "BC6U": (143, 133, 16),
    "BC6S": (144, 133, 16), "BC7": (145, 134, 16), "ETC2": (147, 161, 8), "ETC2A1": (149, 161, 8),
    "ETC2A8": (151, 161, 16), "R11": (153, 161, 8), "R11S": (154, 161, 8), "RG11": (155, 161, 16),
    "RG11S": (156, 161, 16),
}  # fmt: skip
"""Block -> (Vulkan format without sRGB, colour model of the data format, bytes)."""
_ONE_KIND = (139, 140, 141, 142, 143, 144, 153, 154, 155, 156)
"""Formats that have no twin in sRGB."""
_ASTC = ("4x4", "5x4", "5x5", "6x5", "6x6", "8x5", "8x6", "8x8", "10x5", "10x6", "10x8", "10x10", "12x10", "12x12")
_FIRST_ASTC, _ASTC_MODEL, _RGB_MODEL = 157, 162, 1
_FLOAT, _SIGNED, _LINEAR_ALPHA, _ALPHA = 0x80, 0x40, 0x10, 15
_NUMBER = {"R": 0, "G": 1, "B": 2, "A": _ALPHA}


@dataclass(frozen=True)
class _Sample:
    """Of the data format: where a channel lies and what it holds."""

    offset: int
    bits: int
    channel: int
    lower: int = 0
    upper: int = 0xFFFFFFFF


@dataclass(frozen=True)
class _Format:
    vulkan: int
    type_size: int
    model: int
    block: tuple[int, int]
    bytes: int
    samples: tuple[_Sample, ...]


def ktx2(image: StoredImage) -> bytes:
    """The whole file. Raises UsageError for formats that it has no number for."""
    format_ = _format(image)
    levels = image.levels
    dfd = _data_format(format_, image.srgb)
    values = b"".join(
        _value(key, text) for key, text in (("KTXorientation", _orientation(image)), ("KTXwriter", "Wendascope"))
    )
    at = 12 + 9 * 4 + 4 * 4 + 2 * 8 + 24 * len(levels)
    dfd_at, values_at = at, at + len(dfd)
    data = bytearray()
    start = values_at + len(values)
    align = math.lcm(format_.bytes, 4)
    places = []
    for level in reversed(levels):  # the smallest comes first
        data += bytes(-(start + len(data)) % align)
        places.append((start + len(data), len(level), len(level)))
        data += level
    head = struct.pack(
        "<9I", format_.vulkan, format_.type_size, image.width, image.height, image.depth, image.layers, image.faces,
        len(levels), 0,
    )  # fmt: skip
    index = struct.pack("<4I2Q", dfd_at, len(dfd), values_at, len(values), 0, 0)
    return IDENTIFIER + head + index + b"".join(struct.pack("<3Q", *p) for p in reversed(places)) + dfd + values + data


def _orientation(image: StoredImage) -> str:
    return "r" if not image.height else "ru" if not image.depth else "rui"


def _value(key: str, text: str) -> bytes:
    data = key.encode() + b"\0" + text.encode() + b"\0"
    return struct.pack("<I", len(data)) + data + bytes(-len(data) % 4)


def _format(image: StoredImage) -> _Format:
    if image.packing == Packing.BLOCKS:
        return _blocks(image)
    if image.packing == Packing.PACKED:
        return _packed(image.kind)
    channels = {"L": "R", "A": "R", "D": "R", "S": "R", "LA": "RG"}.get(image.channels, image.channels)
    found = re.fullmatch(r"([a-z]+)(\d+)", image.kind)
    kind, bits = (found[1], int(found[2])) if found else ("", 0)
    kind = "srgb" if image.srgb and kind == "unorm" else kind
    if bits == 32 and kind == "unorm":
        kind = "uint"  # depth of 24 bits and more: there is no fixed-point format as wide
    first = _CHANNELS.get((channels, bits))
    if first is None or kind not in _KINDS.get(bits, ()):
        raise UsageError(f"{image.format.name} has no format in KTX files; choose PNG")
    samples = tuple(_channel(letter, place, bits, kind) for place, letter in enumerate(channels))
    size = len(channels) * bits // 8
    return _Format(first + _KINDS[bits].index(kind), bits // 8, _RGB_MODEL, (1, 1), size, samples)


def _channel(letter: str, place: int, bits: int, kind: str) -> _Sample:
    number = _NUMBER[letter]
    if kind == "sfloat":
        return _Sample(place * bits, bits, number | _FLOAT | _SIGNED, 0xBF800000, 0x3F800000)
    if kind in ("snorm", "sint"):
        upper = (1 << (bits - 1)) - 1 if kind == "snorm" else 1
        return _Sample(place * bits, bits, number | _SIGNED, (-upper) & 0xFFFFFFFF, upper)
    linear = _LINEAR_ALPHA if kind == "srgb" and letter == "A" else 0
    return _Sample(place * bits, bits, number | linear, 0, 1 if kind == "uint" else (1 << bits) - 1)


def _packed(kind: str) -> _Format:
    if kind == "10F_11F_11F":
        parts = tuple(
            _Sample(at, bits, n | _FLOAT, 0, 0x3F800000) for n, (at, bits) in enumerate(((0, 11), (11, 11), (22, 10)))
        )
    elif kind == "2_10_10_10":
        rows = ((0, 10, 0), (10, 10, 1), (20, 10, 2), (30, 2, _ALPHA))
        parts = tuple(_Sample(at, bits, channel, 0, (1 << bits) - 1) for at, bits, channel in rows)
    else:  # a shared exponent: each channel is its mantissa, then the exponent, which all have
        parts = tuple(
            sample
            for channel, at in ((0, 0), (1, 9), (2, 18))
            for sample in (_Sample(at, 9, channel, 0, 8448), _Sample(27, 5, channel | 0x20, 15, 31))
        )
    return _Format(_PACKED[kind], 4, _RGB_MODEL, (1, 1), 4, parts)


def _blocks(image: StoredImage) -> _Format:
    block = image.format.block
    if block.startswith("ASTC "):
        side = block.removeprefix("ASTC ")
        width, height = map(int, side.split("x"))
        number = _FIRST_ASTC + 2 * _ASTC.index(side) + image.srgb
        return _Format(number, 1, _ASTC_MODEL, (width, height), 16, (_Sample(0, 128, 0),))
    if block not in _BLOCKS:
        raise UsageError(f"{image.format.name} has no format in KTX files; choose PNG")
    number, model, size = _BLOCKS[block]
    twin = int(image.srgb and number not in _ONE_KIND)
    return _Format(number + twin, 1, model, (4, 4), size, (_Sample(0, 8 * size, 0),))


def _data_format(format_: _Format, srgb: bool) -> bytes:
    """The descriptor of texels (Khronos Data Format 1.3, basic block)."""
    size = 24 + 16 * len(format_.samples)
    block = struct.pack("<IHH", 0, 2, size)
    block += struct.pack("<4B", format_.model, 1, 2 if srgb else 1, 0)
    block += struct.pack("<4B", format_.block[0] - 1, format_.block[1] - 1, 0, 0)
    block += struct.pack("<8B", format_.bytes, 0, 0, 0, 0, 0, 0, 0)
    for sample in format_.samples:
        block += struct.pack(
            "<HBB4B2I", sample.offset, sample.bits - 1, sample.channel, 0, 0, 0, 0, sample.lower, sample.upper
        )
    return struct.pack("<I", len(block) + 4) + block
