"""Block compression of textures: which format suits what a texture holds, and what comes out of it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import etcpak
import numpy as np
import numpy.typing as npt
import texture2ddecoder

from wendascope.frame.distinct_channels import DistinctChannels, distinct_channels
from wendascope.frame.formats import Format
from wendascope.frame.stored_image import Packing, StoredImage

SIDE = 4
"""Texels of a block each way."""
Texels = npt.NDArray[np.uint8]
_UNIT_ERROR = 0.06
"""Of the length of a direction that is stored in eight bits a channel, and filtered."""


@dataclass(frozen=True)
class BlockFormat:
    """One format of 4 x 4 texels a block."""

    word: str
    """As the trade calls it."""
    channels: str
    stored: Format
    has_srgb: bool
    """Whether there is a twin that holds encoded light."""
    block_bytes: int
    encode: Callable[[bytes, int, int], bytes]
    decode: Callable[[bytes, int, int], bytes]


DESKTOP = (
    BlockFormat("BC4", "R", Format(block="BC4"), False, 8, etcpak.compress_bc4, texture2ddecoder.decode_bc4),
    BlockFormat("BC5", "RG", Format(block="BC5"), False, 16, etcpak.compress_bc5, texture2ddecoder.decode_bc5),
    BlockFormat(
        "BC1", "RGB", Format(block="BC1"), True, 8,
        etcpak.compress_bc1, texture2ddecoder.decode_bc1,
    ),
    BlockFormat(
        "BC3", "RGBA", Format(block="BC3"), True, 16,
        etcpak.compress_bc3, texture2ddecoder.decode_bc3,
    ),
)  # fmt: skip
"""What desktop GPUs read."""
MOBILE = (
    BlockFormat("EAC R11", "R", Format(block="R11"), False, 8, etcpak.compress_eac_r, texture2ddecoder.decode_eacr),
    BlockFormat(
        "EAC RG11", "RG", Format(block="RG11"), False, 16,
        etcpak.compress_eac_rg, texture2ddecoder.decode_eacrg,
    ),
    BlockFormat(
        "ETC2", "RGB", Format(block="ETC2"), True, 8,
        etcpak.compress_etc2_rgb, texture2ddecoder.decode_etc2,
    ),
    BlockFormat(
        "ETC2 with alpha", "RGBA", Format(block="ETC2A8"), True, 16,
        etcpak.compress_etc2_rgba, texture2ddecoder.decode_etc2a8,
    ),
)  # fmt: skip
"""What every OpenGL ES 3.0 reads."""


def block_formats(es: bool) -> tuple[BlockFormat, ...]:
    """Those of the GPUs that an API is for."""
    return MOBILE if es else DESKTOP


@dataclass(frozen=True)
class BlockPlan:
    """How a texture would be compressed."""

    format: BlockFormat
    stored: Format
    """What the texture is stored as then."""
    columns: tuple[int, ...]
    """Which stored channels the blocks hold, in their order."""
    fewer: DistinctChannels | None
    """How shaders find their channels in fewer; None where they are the same."""

    def size(self, image: StoredImage) -> int:
        """Bytes of all levels."""
        return sum(
            slices * -(-height // SIDE) * -(-width // SIDE) * self.format.block_bytes
            for slices, height, width, _ in (level_texels(image, k).shape for k in range(len(image.levels)))
        )


def block_plan(image: StoredImage, formats: tuple[BlockFormat, ...]) -> BlockPlan | None:
    """None for what these formats do not hold: more than eight bits a channel, 3D, compressed already, or directions,
    which bend where their channels are coded together.
    """
    if image.depth or not _of_whole_levels(image):
        return None
    now = image.format
    if now.bits != 8 or now.kind != "unorm" or sorted(now.channels) != sorted(image.channels):
        return None
    fewer = distinct_channels(image)
    if fewer is not None:
        kept = fewer.kept
    else:
        kept = "".join(letter for letter in "RGBA" if letter in image.channels)
        opaque = "A" in kept and all(
            (level_texels(image, k)[..., image.channels.index("A")] == 255).all() for k in range(len(image.levels))
        )
        kept = "RGB" if opaque else kept
        if kept == "RGB" and directions(image):
            return None
    found = next(f for f in formats if len(f.channels) == len(kept))
    if image.srgb and not found.has_srgb:
        return None
    return BlockPlan(
        found, replace(found.stored, srgb=image.srgb), tuple(image.channels.index(letter) for letter in kept), fewer
    )


def _of_whole_levels(image: StoredImage) -> bool:
    """Whether it has eight bits a channel, and levels of half the sides each: programs may leave others."""
    if image.packing is not Packing.CHANNELS or image.kind != "unorm8" or not image.height:
        return False
    sides = [(max(image.width >> k, 1), max(image.height >> k, 1)) for k in range(len(image.levels))]
    slices = len(image.levels[0]) // (image.width * image.height * len(image.channels))
    return slices > 0 and all(
        len(level) == slices * width * height * len(image.channels)
        for level, (width, height) in zip(image.levels, sides, strict=True)
    )


def level_texels(image: StoredImage, level: int) -> Texels:
    """Shape (slices, height, width, channels); slices are layers and faces. For eight bits a channel."""
    width, height = (max(n >> level, 1) for n in (image.width, image.height))
    return np.frombuffer(image.levels[level], np.uint8).reshape(-1, height, width, len(image.channels))


def directions(image: StoredImage) -> bool:
    """Whether red, green and blue are the parts of unit vectors, as in a normal map. False for all but eight bits a
    channel.
    """
    if not _of_whole_levels(image) or not set("RGB") <= set(image.channels) or image.srgb:
        return False
    texels = level_texels(image, 0)
    rows = texels.reshape(-1, len(image.channels))
    columns = [image.channels.index(letter) for letter in "RGB"]
    sample = rows[:: max(len(rows) // 20000, 1)][:, columns].astype(np.float64) / 127.5 - 1.0
    lengths = np.linalg.norm(sample, axis=1)
    return bool(np.mean(np.abs(lengths - 1.0) < _UNIT_ERROR) > 0.95 and np.mean(sample[:, 2] > 0.0) > 0.95)


def encoded(plan: BlockPlan, slice_: Texels) -> bytes:
    """Blocks of one slice of a level, shape (height, width, channels); its edge is repeated to whole blocks."""
    height, width = slice_.shape[:2]
    padded = np.pad(slice_[..., plan.columns], ((0, -height % SIDE), (0, -width % SIDE), (0, 0)), mode="edge")
    whole = np.full((*padded.shape[:2], 4), 255, np.uint8)
    whole[..., : len(plan.columns)] = padded
    blocks = plan.format.encode(whole.tobytes(), padded.shape[1], padded.shape[0])
    # the encoder of one-channel EAC hands out twice the bytes that it fills
    return bytes(blocks[: padded.shape[0] // SIDE * (padded.shape[1] // SIDE) * plan.format.block_bytes])


def decoded(plan: BlockPlan, blocks: bytes, height: int, width: int) -> Texels:
    """What a GPU reads of them, shape (height, width, channels of the plan)."""
    rows, columns = height + -height % SIDE, width + -width % SIDE
    blue_first = np.frombuffer(plan.format.decode(blocks, columns, rows), np.uint8).reshape(rows, columns, 4)
    return blue_first[:height, :width, [2, 1, 0, 3][: len(plan.columns)]]


# ---- blocks whose alpha is 1 ----------------------------------------------------------------------------------


@dataclass(frozen=True)
class OpaqueFormat:
    """Blocks of 16 bytes that hold alpha first and colours after it, and the format of their colours alone."""

    block: str
    decode: Callable[[bytes, int, int], bytes]
    without: BlockFormat
    colours: Callable[[npt.NDArray[np.uint8]], npt.NDArray[np.uint8]]
    """Blocks without their alpha, shape (blocks, 8) both ways."""


def opaque_format(image: StoredImage) -> OpaqueFormat | None:
    """The format of blocks all of whose texels, in all levels, have the alpha 1; None where one has not, or where they
    hold none.
    """
    found = next((f for f in _WITH_ALPHA if f.block == image.format.block), None)
    if found is None or image.packing is not Packing.BLOCKS:
        return None
    # the smallest levels are the means of the others: most that have an alpha show it there
    for number in reversed(range(len(image.levels))):
        width, height = (max(n >> number, 1) for n in (image.width, image.height))
        columns, rows = width + -width % SIDE, height + -height % SIDE
        size = columns * rows // (SIDE * SIDE) * 2 * _COLOUR_BYTES
        level = image.levels[number]
        if not level or len(level) % size:
            return None
        for at in range(0, len(level), size):  # layers and faces
            texels = np.frombuffer(found.decode(level[at : at + size], columns, rows), np.uint8)
            if (texels.reshape(rows, columns, 4)[:height, :width, 3] != 255).any():
                return None
    return found


def without_alpha(format_: OpaqueFormat, level: bytes) -> bytes:
    """The colours of blocks, bit for bit the same colours."""
    blocks = np.frombuffer(level, np.uint8).reshape(-1, 2 * _COLOUR_BYTES)
    return format_.colours(blocks[:, _COLOUR_BYTES:]).tobytes()


def _four_colours(blocks: npt.NDArray[np.uint8]) -> npt.NDArray[np.uint8]:
    """Blocks beside alpha always mix four colours. Alone they do so where the first end is the larger number: ends that
    stand the other way round change places, and equal ones need no mixing.
    """
    ends = blocks[:, :4].copy().view("<u2")
    picks = blocks[:, 4:].copy().view("<u4").reshape(-1)
    turned, equal = ends[:, 0] < ends[:, 1], ends[:, 0] == ends[:, 1]
    ends[turned] = ends[turned][:, ::-1]
    picks[turned] ^= 0x55555555
    picks[equal] = 0
    return np.concatenate([ends.view(np.uint8), picks.view(np.uint8).reshape(-1, 4)], axis=1)


_COLOUR_BYTES = 8
_WITH_ALPHA = (
    OpaqueFormat(
        "BC3", texture2ddecoder.decode_bc3, DESKTOP[2],
        _four_colours,
    ),
    OpaqueFormat(
        "ETC2A8", texture2ddecoder.decode_etc2a8, MOBILE[2],
        lambda blocks: blocks,
    ),
)  # fmt: skip


def signal_to_noise(plan: BlockPlan, image: StoredImage, most_texels: int) -> float:
    """PSNR of the first level, dB: peak signal against the mean square of all channels' errors. Of larger levels, of
    bands of four rows spread over it.
    """
    texels = level_texels(image, 0)
    rows = texels.reshape(-1, *texels.shape[2:])
    bands = len(rows) // SIDE
    wanted = max(most_texels // (SIDE * rows.shape[1]), 1)
    if texels.shape[1] % SIDE == 0 and bands > wanted:
        picked = np.linspace(0, bands - 1, wanted).astype(np.int64)
        rows = np.ascontiguousarray(rows.reshape(bands, SIDE, *rows.shape[1:])[picked].reshape(-1, *rows.shape[1:]))
    error = decoded(plan, encoded(plan, rows), *rows.shape[:2]).astype(np.float64) - rows[..., plan.columns]
    mean = float((error**2).mean())
    return 10.0 * np.log10(255.0**2 / mean) if mean else np.inf
