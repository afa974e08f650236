"""What the stored texels of textures tell: each texture is read once, for all rules that ask."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from wendascope.frame.block_codec import directions, level_texels
from wendascope.frame.distinct_channels import DistinctChannels, distinct_channels
from wendascope.frame.frame import Frame
from wendascope.frame.memory import MemoryItem, MemoryKind
from wendascope.frame.stored_image import Packing, StoredImage

_LEAST_BYTES = 4096
"""Smaller textures are not worth a word, whatever they hold."""
PARTS = 16
"""Parts of the first level whose means are kept."""


@dataclass(frozen=True)
class TextureFacts:
    """Of one texture that the frame does not write, by all texels of all levels."""

    item: MemoryItem
    shape: tuple[object, ...]
    """Equal for textures that could stand for each other: format, channels, sizes of all levels."""
    solid: bool
    """Whether all texels are the same."""
    channels: DistinctChannels | None
    """What its channels come to, where fewer would hold the same."""
    means: npt.NDArray[np.float64] | None
    """Of `PARTS` parts of the first level, shape (PARTS, channels); None but for eight bits a channel."""
    third_error: float
    """Where red, green and blue are unit vectors: by how much the third differs at most from what the others tell, of
    255; infinite elsewhere."""
    flattest: float
    """The longest part of such a vector that lies in the surface."""


def texture_facts(frame: Frame) -> Iterator[TextureFacts]:
    """Of every texture that is large enough, the frame leaves as it is, and whose texels are kept and understood."""
    for item in frame.memory:
        if item.kind == MemoryKind.TEXTURE and item.size >= _LEAST_BYTES and item.stays:
            image = frame.stored_image(item.name)
            if image is not None:
                yield _facts(item, image)


def _facts(item: MemoryItem, image: StoredImage) -> TextureFacts:
    shape = (image.format, image.channels, image.width, image.height, image.depth, image.layers, image.faces)
    solid = image.solid
    bytes_ = image.packing is Packing.CHANNELS and image.kind == "unorm8" and not solid
    error, flattest = _rebuilt(image) if item.used and item.shape == "2D" and directions(image) else (np.inf, 0.0)
    return TextureFacts(
        item, (*shape, *map(len, image.levels)), solid, distinct_channels(image), _means(image) if bytes_ else None,
        error, flattest,
    )  # fmt: skip


def _means(image: StoredImage) -> npt.NDArray[np.float64]:
    texels = np.frombuffer(image.levels[0], np.uint8).reshape(-1, len(image.channels))
    starts = np.linspace(0, len(texels), PARTS, endpoint=False).astype(np.int64)
    sums = np.add.reduceat(texels, starts, axis=0, dtype=np.int64)
    return np.asarray(sums / np.maximum(np.diff([*starts, len(texels)]), 1)[:, None])


def _rebuilt(image: StoredImage) -> tuple[float, float]:
    """(largest error of the third channel, of 255; length of the longest part that lies in the surface), where there is
    no alpha but 1; an infinite error otherwise.
    """
    columns = [image.channels.index(letter) for letter in "RGB"]
    texels = level_texels(image, 0)
    if "A" in image.channels and (texels[..., image.channels.index("A")] != 255).any():
        return np.inf, 0.0
    vectors = texels[..., columns].astype(np.float64) / 127.5 - 1.0
    flat = (vectors[..., :2] ** 2).sum(axis=-1)
    third = np.sqrt(np.maximum(1.0 - flat, 0.0))
    return float(np.abs(third - vectors[..., 2]).max() * 127.5), float(np.sqrt(flat.max()))
