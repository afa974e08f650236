"""Which channels of a stored texture hold something of their own."""

from __future__ import annotations

import re
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from wendascope.frame.formats import Format
from wendascope.frame.stored_image import Packing, StoredImage

_COLOURS = "RGBA"
_DTYPES = {
    "unorm8": "u1", "snorm8": "i1", "uint8": "u1", "sint8": "i1", "unorm16": "<u2", "snorm16": "<i2", "uint16": "<u2",
    "sint16": "<i2", "sfloat16": "<u2", "uint32": "<u4", "sint32": "<i4", "sfloat32": "<u4",
}  # fmt: skip
"""Of a channel's bits: floats are compared by their bits, so that no value is taken for another."""
_ONES = {"sfloat16": 0x3C00, "sfloat32": 0x3F800000}
_FIRST_LOOK = 4096


@dataclass(frozen=True)
class DistinctChannels:
    """What shaders read as red, green, blue and alpha, by the fewest channels that give it."""

    sources: dict[str, str]
    """`R`, `G`, `B`, `A` -> `0`, `1`, or the channel of the texture that holds the same in every texel of every level.
    """
    kept: str
    """The channels that have to be kept, `R`, `RA`, ..."""
    stored: int
    """Channels that each texel has now."""
    format: Format
    """What holds the kept ones: `R8`, `RG16F`, ..."""

    def swizzle(self, channel: str) -> str:
        """Where the narrower texture has what is read as a channel: `R`, `G`, `B`, `A`, `0` or `1`."""
        source = self.sources[channel]
        return source if source in "01" else _COLOURS[self.kept.index(source)]


def distinct_channels(image: StoredImage) -> DistinctChannels | None:
    """None where every channel is needed, no format has fewer of them, or all are constant."""
    stored = len(image.channels)
    if image.packing is not Packing.CHANNELS or not image.format.is_plain or set(image.channels) - set(_COLOURS):
        return None
    if stored < 2 or len(image.format.channels) != stored or image.kind not in _DTYPES:
        return None
    if image.format.bits != int(re.sub(r"\D", "", image.kind)):
        return None  # the bits that were read are not those that are stored
    levels = [np.frombuffer(level, _DTYPES[image.kind]).reshape(-1, stored) for level in image.levels]
    one = _one(image.kind)
    # most textures use all their channels, which a few of their texels tell
    step = max(len(levels[0]) // _FIRST_LOOK, 1)
    for rows in ([levels[0][::step]], levels):
        sources = _sources(rows, image.channels, one)
        kept = "".join(c for c in _COLOURS if sources[c] == c)
        if len(kept) >= min(stored, 3):
            return None
    if not kept:
        return None
    return DistinctChannels(sources, kept, stored, image.format.with_channels(len(kept)))


def _one(kind: str) -> int:
    """A channel's bits for 1."""
    if kind in _ONES:
        return _ONES[kind]
    return int(np.iinfo(np.dtype(_DTYPES[kind])).max) if "norm" in kind else 1


def _sources(levels: list[npt.NDArray[np.generic]], channels: str, one: int) -> dict[str, str]:
    sources: dict[str, str] = {}
    for channel in _COLOURS:
        if channel not in channels:
            sources[channel] = "1" if channel == "A" else "0"
            continue
        at = channels.index(channel)
        columns = [level[:, at] for level in levels]
        first = columns[0][0] if len(columns[0]) else 0
        if first in (0, one) and all((column == first).all() for column in columns):
            sources[channel] = "1" if first else "0"
            continue
        others = (c for c, source in sources.items() if source == c)
        sources[channel] = next(
            (
                other
                for other in others
                if all((level[:, at] == level[:, channels.index(other)]).all() for level in levels)
            ),
            channel,
        )
    return sources
