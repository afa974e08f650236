"""What objects in memory hold, as numbers: texels by channel, and buffers by what reads them."""

from __future__ import annotations

import math
from dataclasses import dataclass, field

import msgspec
import numpy as np
import numpy.typing as npt

NO_NUMBER, INFINITE, MINUS_INFINITE = (214, 64, 160), (240, 200, 60), (70, 120, 220)
"""Colours of values that no range can hold: red, green and blue."""


class ImageValues(msgspec.Struct):
    """One layer of one level: `values` has shape (height, width, channels), bottom row first. Fixed-point formats come
    as 0 to 1 (or -1 to 1), whole numbers and floats as they are.
    """

    channels: list[str]
    values: np.ndarray

    @property
    def width(self) -> int:
        return int(self.values.shape[1])

    @property
    def height(self) -> int:
        return int(self.values.shape[0])

    def ends(self, channels: list[int]) -> tuple[float, float]:
        """(smallest, largest) finite value of some channels; (0, 1) where there is none."""
        finite = [_finite(self.values[..., channel]) for channel in channels]
        finite = [part for part in finite if part.size]
        ends = [float(part.min()) for part in finite], [float(part.max()) for part in finite]
        return (min(ends[0]), max(ends[1])) if finite else (0.0, 1.0)

    def histogram(self, channel: int, low: float, high: float, bins: int = 128) -> npt.NDArray[np.int64]:
        """How many texels have a value in each part of a range, shape (bins,); what lies outside is not counted."""
        values = _finite(self.values[..., channel]).astype(np.float64)
        counts, _ = np.histogram(values, bins, (low, high if high > low else low + 1.0))
        return counts.astype(np.int64)

    def sample(self, most: int) -> ImageValues:
        """So many texels of it at most, from all over, each standing for as many: to see how values are spread."""
        step = max(math.ceil(math.sqrt(self.width * self.height / most)), 1)
        return ImageValues(self.channels, self.values[::step, ::step])

    def shown(self, channels: list[int], low: float, high: float, as_light: bool = False) -> npt.NDArray[np.uint8]:
        """Pixels to look at, shape (height, width, 3), bottom row first: one channel as grey, two as red and green,
        three as they are; `low` is black and `high` is white. With `as_light` the values between are light that is
        encoded for a screen. What is no number, and what is infinite, has colours of its own (`NO_NUMBER`, ...).
        """
        values = self.values[..., channels]
        values = values if values.dtype == np.float32 else values.astype(np.float64)
        with np.errstate(invalid="ignore", over="ignore"):
            scaled = np.clip((values - low) / (high - low if high > low else 1.0), 0.0, 1.0)
        scaled = np.nan_to_num(scaled, copy=False, nan=0.0)
        if as_light:
            scaled = np.where(scaled <= 0.0031308, 12.92 * scaled, 1.055 * scaled ** (1 / 2.4) - 0.055)
        bytes_ = (scaled * 255 + 0.5).astype(np.uint8)
        full = np.zeros((*bytes_.shape[:2], 3), np.uint8)
        if len(channels) == 1:
            full[:] = bytes_
        else:
            full[..., : min(len(channels), 3)] = bytes_[..., :3]
        if values.dtype.kind == "f" and not np.isfinite(values).all():
            full[np.isposinf(values).any(axis=2)] = INFINITE
            full[np.isneginf(values).any(axis=2)] = MINUS_INFINITE
            full[np.isnan(values).any(axis=2)] = NO_NUMBER
        return full

    def distinct(self, channel: int) -> npt.NDArray[np.uint8]:
        """Pixels to look at where values are names and no amounts, shape (height, width, 3), bottom row first: every
        whole number of a channel in a colour of its own, 0 black.
        """
        numbers = self.values[..., channel].astype(np.int64).astype(np.uint64)
        mixed = numbers * np.uint64(0x9E3779B97F4A7C15)  # neighbours get colours far from each other
        parts = [(mixed >> np.uint64(shift)) & np.uint64(0xFF) for shift in (56, 44, 32)]
        full = np.stack([(64 + part * np.uint64(191) // np.uint64(255)).astype(np.uint8) for part in parts], axis=2)
        full[numbers == 0] = 0
        return full

    def not_finite(self) -> tuple[int, int]:
        """How many texels have a channel that is no number, and one that is infinite."""
        with np.errstate(invalid="ignore", over="ignore"):
            if self.values.dtype.kind != "f" or np.isfinite(self.values.sum(dtype=np.float64)):
                return 0, 0
        return int(np.isnan(self.values).any(axis=-1).sum()), int(np.isinf(self.values).any(axis=-1).sum())


def _finite(values: np.ndarray) -> np.ndarray:
    """Those that are finite, in a row."""
    if values.dtype.kind != "f":
        return values.ravel()
    finite = np.isfinite(values)
    return values.ravel() if finite.all() else values[finite]


@dataclass(frozen=True)
class BufferColumn:
    """One value of every element of a buffer."""

    name: str
    dtype: np.dtype[np.generic]
    """Of one component."""
    components: int
    offset: int
    """Bytes from the beginning of the buffer to the first."""


@dataclass(frozen=True)
class BufferLayout:
    """A way in which the frame reads a buffer: elements of `stride` bytes."""

    name: str
    """`vertices of program 3`, `indices`, `block Lights`."""
    stride: int
    columns: list[BufferColumn] = field(default_factory=list)

    def count(self, size: int) -> int:
        """How many whole elements a buffer of some bytes has."""
        if not self.columns or self.stride <= 0:
            return 0
        ends = [c.offset + c.components * c.dtype.itemsize for c in self.columns]
        return max((size - max(ends)) // self.stride + 1, 0)

    def element(self, data: bytes, index: int) -> list[str]:
        """The values of one element as text, column by column."""
        texts = []
        for column in self.columns:
            at = column.offset + index * self.stride
            values = np.frombuffer(data, column.dtype, column.components, at)
            texts.append(", ".join(_text(value) for value in values))
        return texts


def _text(value: np.generic) -> str:
    return f"{float(value):.6g}" if value.dtype.kind == "f" else str(value)
