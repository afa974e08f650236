"""Pixels as OpenGL transfers them, taken apart into channels."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import numpy.typing as npt

from wendascope.registry import GL

CHANNELS = {
    GL.RED: "R", GL.RG: "RG", GL.RGB: "RGB", GL.RGBA: "RGBA", GL.BGR: "BGR", GL.BGRA: "BGRA", GL.ALPHA: "A",
    GL.LUMINANCE: "L", GL.LUMINANCE_ALPHA: "LA", GL.RED_INTEGER: "R", GL.RG_INTEGER: "RG", GL.RGB_INTEGER: "RGB",
    GL.RGBA_INTEGER: "RGBA", GL.DEPTH_COMPONENT: "D", GL.STENCIL_INDEX: "S", GL.DEPTH_STENCIL: "DS",
}  # fmt: skip
"""Transfer format -> letters of its channels, in the order in which they lie."""
_NAMES = {"R": "red", "G": "green", "B": "blue", "A": "alpha", "L": "grey", "D": "depth", "S": "stencil"}
_ORDER = "RGBALDS"
WHOLE = (GL.RED_INTEGER, GL.RG_INTEGER, GL.RGB_INTEGER, GL.RGBA_INTEGER, GL.STENCIL_INDEX)
"""Transfer formats of whole numbers."""
_PLAIN: dict[int, str] = {
    GL.UNSIGNED_BYTE: "u1", GL.BYTE: "i1", GL.UNSIGNED_SHORT: "<u2", GL.SHORT: "<i2", GL.UNSIGNED_INT: "<u4",
    GL.INT: "<i4", GL.HALF_FLOAT: "<f2", GL.FLOAT: "<f4",
}  # fmt: skip
_PACKED = {
    GL.UNSIGNED_SHORT_5_6_5: ("<u2", ((11, 5), (5, 6), (0, 5))),
    GL.UNSIGNED_SHORT_4_4_4_4: ("<u2", ((12, 4), (8, 4), (4, 4), (0, 4))),
    GL.UNSIGNED_SHORT_5_5_5_1: ("<u2", ((11, 5), (6, 5), (1, 5), (0, 1))),
    GL.UNSIGNED_INT_2_10_10_10_REV: ("<u4", ((0, 10), (10, 10), (20, 10), (30, 2))),
    GL.UNSIGNED_INT_24_8: ("<u4", ((8, 24), (0, 8))),
}
"""Type -> (of a whole texel, (lowest bit, bits) of each channel)."""


def texel_values(
    data: bytes, shape: Sequence[int], format_: int, type_: int
) -> tuple[list[str], npt.NDArray[np.generic]]:
    """(names of channels, values of shape (*shape, channels)); colours in the order red, green, blue, alpha. Raises
    ValueError for pixels that are not known here, or fewer than the shape has.
    """
    letters = CHANNELS.get(format_)
    if letters is None:
        raise ValueError("pixels of a format that is not known here")
    count = int(np.prod(shape))
    values = _values(data, count, len(letters), format_, type_)
    order = sorted(range(len(letters)), key=lambda k: _ORDER.index(letters[k]))
    return [_NAMES[letters[k]] for k in order], values[:, order].reshape(*shape, len(letters))


def _values(data: bytes, count: int, channels: int, format_: int, type_: int) -> npt.NDArray[np.generic]:
    if type_ in _PLAIN:
        values = np.frombuffer(data, np.dtype(_PLAIN[type_]), count * channels).reshape(count, channels)
        whole = format_ in WHOLE or values.dtype.kind == "f"
        return values if whole else _fixed(values, np.iinfo(values.dtype).max)
    if type_ in _PACKED:
        kind, parts = _PACKED[type_]
        words = np.frombuffer(data, np.dtype(kind), count).astype(np.uint32)
        columns = [(words >> low) & ((1 << bits) - 1) for low, bits in parts]
        if len(columns) < channels:
            raise ValueError("packed pixels of fewer channels than their format has")
        if format_ in WHOLE:
            return np.stack(columns, axis=1)
        scales = [1 if type_ == GL.UNSIGNED_INT_24_8 and low == 0 else (1 << bits) - 1 for low, bits in parts]
        return np.stack([_fixed(c, s) for c, s in zip(columns, scales, strict=True)], axis=1)
    if type_ == GL.UNSIGNED_INT_10F_11F_11F_REV:
        words = np.frombuffer(data, np.dtype("<u4"), count).astype(np.uint32)
        floats = ((words & 0x7FF, 6), (words >> 11 & 0x7FF, 6), (words >> 22, 5))
        return np.stack([_small_float(bits.astype(np.uint32), mantissa) for bits, mantissa in floats], axis=1)
    if type_ == GL.UNSIGNED_INT_5_9_9_9_REV:
        words = np.frombuffer(data, np.dtype("<u4"), count).astype(np.uint32)
        scale = np.exp2((words >> 27).astype(np.float32) - 24.0)
        return np.stack([(words >> low & 0x1FF).astype(np.float32) * scale for low in (0, 9, 18)], axis=1)
    if type_ == GL.FLOAT_32_UNSIGNED_INT_24_8_REV:
        pairs = np.frombuffer(data, np.dtype([("depth", "<f4"), ("stencil", "<u4")]), count)
        return np.stack([pairs["depth"], (pairs["stencil"] & 0xFF).astype(np.float32)], axis=1)
    raise ValueError("pixels of a type that is not known here")


def _fixed(values: npt.NDArray[np.generic], largest: int) -> npt.NDArray[np.float32]:
    scaled = values.astype(np.float64) / largest
    return np.maximum(scaled, -1.0).astype(np.float32)


def _small_float(bits: npt.NDArray[np.uint32], mantissa: int) -> npt.NDArray[np.float32]:
    """Unsigned floats of 11 or 10 bits: five of exponent; as halves, whose mantissa has ten bits."""
    return (bits << (10 - mantissa)).astype(np.uint16).view(np.float16).astype(np.float32)
