"""Pixel formats: how to read an image without loss, from what GL says of its components."""

from __future__ import annotations

import re
from dataclasses import dataclass

from wendascope.registry import GL, tables

_NATIVE = {
    GL.RGB9_E5: (GL.RGB, GL.UNSIGNED_INT_5_9_9_9_REV),
    GL.R11F_G11F_B10F: (GL.RGB, GL.UNSIGNED_INT_10F_11F_11F_REV),
    GL.RGB10_A2: (GL.RGBA, GL.UNSIGNED_INT_2_10_10_10_REV),
    GL.RGB10_A2UI: (GL.RGBA_INTEGER, GL.UNSIGNED_INT_2_10_10_10_REV),
    GL.STENCIL_INDEX8: (GL.STENCIL_INDEX, GL.UNSIGNED_BYTE),
}
_COLOR = {1: GL.RED, 2: GL.RG, 3: GL.RGB, 4: GL.RGBA}
_INTEGER = {1: GL.RED_INTEGER, 2: GL.RG_INTEGER, 3: GL.RGB_INTEGER, 4: GL.RGBA_INTEGER}
_PACKED_SIZE = {
    GL.UNSIGNED_INT_5_9_9_9_REV: 4,
    GL.UNSIGNED_INT_10F_11F_11F_REV: 4,
    GL.UNSIGNED_INT_2_10_10_10_REV: 4,
    GL.UNSIGNED_INT_24_8: 4,
    GL.FLOAT_32_UNSIGNED_INT_24_8_REV: 8,
    GL.UNSIGNED_SHORT_5_6_5: 2, GL.UNSIGNED_SHORT_4_4_4_4: 2, GL.UNSIGNED_SHORT_5_5_5_1: 2,
}  # fmt: skip
_TYPE_SIZE = {
    GL.BYTE: 1, GL.UNSIGNED_BYTE: 1, GL.SHORT: 2, GL.UNSIGNED_SHORT: 2, GL.HALF_FLOAT: 2,
    GL.INT: 4, GL.UNSIGNED_INT: 4, GL.FLOAT: 4,
}  # fmt: skip
_COMPONENTS = {
    **{f: n for n, f in _COLOR.items()},
    **{f: n for n, f in _INTEGER.items()},
    GL.DEPTH_COMPONENT: 1, GL.STENCIL_INDEX: 1, GL.ALPHA: 1, GL.LUMINANCE: 1, GL.LUMINANCE_ALPHA: 2,
}  # fmt: skip


@dataclass(frozen=True)
class Components:
    """Bits and type of each component, as glGetTexLevelParameter gives them."""

    red: int
    green: int
    blue: int
    alpha: int
    depth: int
    stencil: int
    color_type: int
    depth_type: int


def transfer_format(internal_format: int, c: Components) -> tuple[int, int] | None:
    """(format, type) that reads and writes every bit of an uncompressed image; None if there is none."""
    if internal_format in _NATIVE:
        return _NATIVE[internal_format]
    if c.depth and c.stencil:
        return GL.DEPTH_STENCIL, GL.FLOAT_32_UNSIGNED_INT_24_8_REV if c.depth_type == GL.FLOAT else GL.UNSIGNED_INT_24_8
    if c.depth:
        if c.depth_type == GL.FLOAT:
            return GL.DEPTH_COMPONENT, GL.FLOAT
        return GL.DEPTH_COMPONENT, GL.UNSIGNED_SHORT if c.depth <= 16 else GL.UNSIGNED_INT
    if c.stencil:
        return GL.STENCIL_INDEX, GL.UNSIGNED_BYTE
    bits = (c.red, c.green, c.blue, c.alpha)
    count = max((i + 1 for i, b in enumerate(bits) if b), default=0)
    if count == 0:
        return None
    largest = max(bits)
    small, medium = largest <= 8, largest <= 16
    match c.color_type:
        case GL.UNSIGNED_NORMALIZED:
            return _COLOR[count], GL.UNSIGNED_BYTE if small else GL.UNSIGNED_SHORT if medium else GL.UNSIGNED_INT
        case GL.SIGNED_NORMALIZED:
            return _COLOR[count], GL.BYTE if small else GL.SHORT if medium else GL.INT
        case GL.FLOAT:
            return _COLOR[count], GL.HALF_FLOAT if medium else GL.FLOAT
        case GL.UNSIGNED_INT:
            return _INTEGER[count], GL.UNSIGNED_BYTE if small else GL.UNSIGNED_SHORT if medium else GL.UNSIGNED_INT
        case GL.INT:
            return _INTEGER[count], GL.BYTE if small else GL.SHORT if medium else GL.INT
    return None


def pixel_size(format_: int, type_: int) -> int:
    """Bytes of one pixel in client memory. Raises KeyError for a pair this module never makes."""
    return _PACKED_SIZE.get(type_) or _COMPONENTS[format_] * _TYPE_SIZE[type_]


def attachment_of(format_: int) -> tuple[int, int]:
    """(attachment point, blit mask) for pixels of a transfer format."""
    match format_:
        case GL.DEPTH_STENCIL:
            return GL.DEPTH_STENCIL_ATTACHMENT, GL.DEPTH_BUFFER_BIT | GL.STENCIL_BUFFER_BIT
        case GL.DEPTH_COMPONENT:
            return GL.DEPTH_ATTACHMENT, GL.DEPTH_BUFFER_BIT
        case GL.STENCIL_INDEX:
            return GL.STENCIL_ATTACHMENT, GL.STENCIL_BUFFER_BIT
    return GL.COLOR_ATTACHMENT0, GL.COLOR_BUFFER_BIT


UNIFORM_TYPES: dict[int, tuple[str, int]] = {}
"""Uniform type -> (letter of its glUniform command, values)."""


def _fill_uniform_types() -> None:
    for count, suffix in ((1, ""), (2, "_VEC2"), (3, "_VEC3"), (4, "_VEC4")):
        for name, letter in (("FLOAT", "f"), ("INT", "i"), ("UNSIGNED_INT", "u"), ("BOOL", "i"), ("DOUBLE", "d")):
            UNIFORM_TYPES[getattr(GL, name + suffix)] = (letter, count)
    for columns in "234":
        for rows in "234":
            shape = columns if columns == rows else f"{columns}x{rows}"
            UNIFORM_TYPES[getattr(GL, f"FLOAT_MAT{shape}")] = ("f" + shape, int(columns) * int(rows))
            UNIFORM_TYPES[getattr(GL, f"DOUBLE_MAT{shape}")] = ("d" + shape, int(columns) * int(rows))


_fill_uniform_types()


def uniform_type(type_: int) -> tuple[str, int]:
    """(letter, values) of a uniform type; samplers and images count as one int."""
    return UNIFORM_TYPES.get(type_, ("i", 1))


def named_types(internal_format: int) -> tuple[int, int]:
    """Types of colour and depth by the name of a format, where GL does not tell."""
    name = tables().enum_name(internal_format, "InternalFormat").removeprefix("GL_")
    if name.endswith("UI") or "UI_" in name:
        color = GL.UNSIGNED_INT
    elif name.endswith("I"):
        color = GL.INT
    elif name.endswith("F") or "F_" in name:
        color = GL.FLOAT
    elif name.endswith("SNORM"):
        color = GL.SIGNED_NORMALIZED
    else:
        color = GL.UNSIGNED_NORMALIZED
    return color, GL.FLOAT if "32F" in name else GL.UNSIGNED_NORMALIZED


def named_format(internal_format: int) -> tuple[int, int] | None:
    """(format, type) of a sized format by its name alone; None for formats that name no sizes."""
    name = tables().enum_name(internal_format, "InternalFormat").removeprefix("GL_")
    found = re.match(r"(?:S?(RGBA|RGB|RG|R)(\d+)|(DEPTH)_COMPONENT(\d+)|(DEPTH)(\d+)F?_STENCIL8)", name)
    if found is None:
        return None
    color, depth = named_types(internal_format)
    if found[3]:
        return transfer_format(internal_format, Components(0, 0, 0, 0, int(found[4]), 0, 0, depth))
    if found[5]:
        return transfer_format(internal_format, Components(0, 0, 0, 0, int(found[6]), 8, 0, depth))
    bits = 8 if name == "RGB565" else int(found[2])
    channels = 4 if "ALPHA" in name or "_A" in name else len(found[1])
    red, green, blue, alpha = (bits if i < channels else 0 for i in range(4))
    return transfer_format(internal_format, Components(red, green, blue, alpha, 0, 0, color, 0))
