"""How few bits the attributes of a vertex buffer need, by the values that they have, and what rounding them costs."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from wendascope.frame.contents import BufferColumn
from wendascope.frame.frame import Frame
from wendascope.frame.memory import MemoryItem

Floats = npt.NDArray[np.float32]
_UNIT = 2e-3
"""How far from 1 the length of a unit vector may be."""
_LARGEST_HALF_STEP = 1 / 1024
_COLOURS, _PLACES = ("col", "tint"), ("pos", "vert", "place", "gl_vertex")
_TEXTURE_PLACES = ("uv", "coord", "tex")


@dataclass(frozen=True)
class Narrower:
    """What would hold an attribute."""

    attribute: str
    words: str
    """`10 bits per component`."""
    kind: str
    """`snorm10`, `unorm8`, `unorm16`, `half` or `box16`: 16 bits between the smallest and the largest value."""
    bytes_now: int
    bytes: int
    error: float
    """Largest difference of a component; of `box16` as a part of its extent."""


def float_columns(frame: Frame, item: MemoryItem) -> tuple[int, list[BufferColumn]]:
    """(stride, columns of 32-bit floats) of a buffer that all draws read in one way; no columns where they do not."""
    found: dict[int, BufferColumn] = {}
    strides = set()
    for layout in frame.buffer_layouts(item.name):
        if not layout.name.startswith("vertices"):
            return 0, []
        strides.add(layout.stride)
        for column in layout.columns:
            known = found.setdefault(column.offset, column)
            same = (known.dtype, known.components) == (column.dtype, column.components)
            if not same or column.offset >= layout.stride:
                return 0, []
    if len(strides) != 1:
        return 0, []
    floats = [c for c in found.values() if c.dtype == np.dtype("<f4")]
    return strides.pop(), sorted(floats, key=lambda column: column.offset)


def values_of(data: bytes | bytearray, column: BufferColumn, stride: int) -> Floats:
    """All values of a column in a buffer, shape (vertices, components): a view of its bytes."""
    count = max((len(data) - column.offset - 4 * column.components) // stride + 1, 0)
    return np.ndarray((count, column.components), "<f4", data, column.offset, (stride, 4))


def narrower(column: BufferColumn, values: Floats) -> Narrower | None:
    """The narrowest kind that suits the values, by them and by what the attribute is called; None for no other."""
    name, size = column.name, column.components
    lower = name.lower()
    if len(values) == 0 or not np.isfinite(values).all():
        return None

    def found(kind: str, words: str, bytes_: int) -> Narrower | None:
        now = 4 * size
        if bytes_ >= now:
            return None
        error = float(np.abs(rounded(kind, values) - values).max())
        if kind == "box16":
            error /= max(float(np.ptp(values, axis=0).max()), 1e-30)
        return Narrower(name, words, kind, now, bytes_, error)

    within_one = bool((values >= 0).all() and (values <= 1).all())
    if any(word in lower for word in _PLACES):
        return found("box16", "16 bits per component within its box", (2 * size + 3) // 4 * 4)
    if size in (3, 4) and _is_unit(values):
        return found("snorm10", "10 bits per component", 4)
    if any(word in lower for word in _COLOURS) and within_one:
        return found("unorm8", "8 bits per component", 4)
    if any(word in lower for word in _TEXTURE_PLACES) and size == 2:
        if within_one:
            return found("unorm16", "16 bits per component", 4)
        half = found("half", "half floats", 4)
        return half if half is not None and half.error <= _LARGEST_HALF_STEP else None
    return None


def _is_unit(values: Floats) -> bool:
    lengths = np.linalg.norm(values[:, :3].astype(np.float64), axis=1)
    signs = values.shape[1] == 3 or bool(np.isin(values[:, 3], (-1.0, 0.0, 1.0)).all())
    return signs and bool((np.abs(lengths - 1) < _UNIT).all())


def rounded(kind: str, values: Floats) -> Floats:
    """The values as the narrower kind gives them back."""
    exact = values.astype(np.float64)
    match kind:
        case "snorm10":
            back = np.rint(exact * 511) / 511
            if exact.shape[1] == 4:
                back[:, 3] = exact[:, 3]
        case "unorm8":
            back = np.rint(exact * 255) / 255
        case "unorm16":
            back = np.rint(exact * 65535) / 65535
        case "half":
            back = exact.astype(np.float16).astype(np.float64)
        case _:
            low, extent = exact.min(axis=0), np.maximum(np.ptp(exact, axis=0), 1e-30)
            back = low + np.rint((exact - low) / extent * 65535) / 65535 * extent
    return back.astype(np.float32)
