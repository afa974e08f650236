"""Which channels of stored texels are needed: rebuilt by the swizzle, every texel comes out as it was."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from wendascope.backends.opengl.objects.texel_formats import texel_format_named
from wendascope.frame.distinct_channels import distinct_channels
from wendascope.frame.stored_image import Packing, StoredImage


def _image(
    pixels: list[np.ndarray],
    channels: str,
    format_: str = "RGBA8",
    kind: str = "unorm8",
    packing: Packing | None = None,
) -> StoredImage:
    levels = [level.tobytes() for level in pixels]
    side = pixels[0].shape[0]
    return StoredImage(
        texel_format_named(format_), channels, kind, packing or Packing.CHANNELS, side, 1, 0, 0, 1, levels
    )


_FORMATS = st.sampled_from(
    [
        ("RGBA", "RGBA8", "unorm8", "u1", 255),
        ("BGRA", "RGBA8", "unorm8", "u1", 255),
        ("RGB", "RGB8", "unorm8", "u1", 255),
        ("BGR", "RGB", "unorm8", "u1", 255),
        ("RG", "RG16F", "sfloat16", "<u2", 0x3C00),
        ("RGBA", "RGBA32F", "sfloat32", "<u4", 0x3F800000),
        ("RGBA", "RGBA16", "unorm16", "<u2", 0xFFFF),
        ("RGBA", "RGBA8UI", "uint8", "u1", 1),
        ("RGBA", "RGBA8_SNORM", "snorm8", "i1", 127),
    ]
)


@given(_FORMATS, st.lists(st.sampled_from(["0", "1", "a", "b", "c", "d"]), min_size=4, max_size=4), st.integers(1, 3))
def test_what_is_kept_gives_every_texel(row: tuple[str, str, str, str, int], plan: list[str], levels: int) -> None:
    channels, format_, kind, dtype, one = row
    random = np.random.default_rng(7)
    pixels = []
    for _ in range(levels):
        made = {name: random.integers(2, 100, 40) for name in "abcd"} | {
            "0": np.zeros(40, int),
            "1": np.full(40, one, np.int64),
        }
        pixels.append(np.stack([made[source] for source in plan[: len(channels)]], axis=1).astype(dtype))
    found = distinct_channels(_image(pixels, channels, format_, kind))
    own = {source for source in plan[: len(channels)] if source not in "01"}
    if not own or len(own) >= min(len(channels), 3):
        assert found is None
        return
    assert found is not None and len(found.kept) == len(own) and found.stored == len(channels)
    assert found.format.word == "RG"[: len(own)] + (format_[len(channels) :] or "8")
    for level in pixels:
        kept = level[:, [channels.index(letter) for letter in found.kept]]
        for at, letter in enumerate(channels):
            source = found.swizzle(letter)
            constants = {"0": 0, "1": one}
            read = kept[:, "RGBA".index(source)] if source not in "01" else np.full(len(level), constants[source])
            assert (read == level[:, at]).all()
    assert "A" in channels or found.swizzle("A") == "1"


def test_one_texel_of_the_last_level_counts() -> None:
    grey = [np.repeat(np.arange(n, dtype=np.uint8)[:, None], 4, axis=1) for n in (64, 32)]
    assert distinct_channels(_image(grey, "RGBA")) is not None
    grey[1][31] = (1, 2, 3, 4)
    assert distinct_channels(_image(grey, "RGBA")) is None


@pytest.mark.parametrize(
    ("format_", "kind", "packing"),
    [
        ("SRGB8_ALPHA8", "unorm8", Packing.CHANNELS),
        ("RGBA4", "unorm8", Packing.CHANNELS),
        ("RGB10_A2", "2_10_10_10", Packing.PACKED),
        ("RGBA16F", "sfloat32", Packing.CHANNELS),
        ("COMPRESSED_RGBA_BPTC_UNORM", "", Packing.BLOCKS),
    ],
)
def test_formats_without_a_narrower_one(format_: str, kind: str, packing: Packing) -> None:
    """Light that is encoded, texels that are no whole bytes, and those that were read as something else."""
    grey = [np.repeat(np.arange(64, dtype=np.uint8)[:, None], 4, axis=1)]
    assert distinct_channels(_image(grey, "RGBA", format_, kind, packing)) is None
