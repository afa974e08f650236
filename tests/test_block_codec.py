"""Block compression: what comes out is near what went in, in every format, of any size."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.conftest import Capture
from wendascope.backends.opengl.objects.texel_formats import texel_format_named
from wendascope.frame.block_codec import (
    DESKTOP,
    MOBILE,
    BlockFormat,
    block_plan,
    decoded,
    directions,
    encoded,
    level_texels,
    opaque_format,
    signal_to_noise,
    without_alpha,
)
from wendascope.frame.remedy import Remedy
from wendascope.frame.stored_image import Packing, StoredImage
from wendascope.measure.compressible import compressible
from wendascope.replay.client import Replay
from wendascope.trials.survey.refuting import HOLDS, refute

_OF = {"R": "R8", "RG": "RG8", "RGB": "RGB8", "RGBA": "RGBA8"}


def _smooth(width: int, height: int, channels: int) -> np.ndarray:
    y, x = np.mgrid[0:height, 0:width]
    shades = [
        128 + 90 * np.sin(x / 31),
        128 + 80 * np.cos(y / 41),
        90 + 60 * np.sin((x + y) / 57),
        128 + 100 * np.cos(x / 53),
    ]
    return np.stack(shades[:channels], -1).astype(np.uint8)


def _image(levels: list[np.ndarray], channels: str, layers: int = 0, **more: object) -> StoredImage:
    height, width = levels[0].shape[-3:-1]
    fields: dict[str, object] = {"format": _OF["".join(sorted(channels, key="RGBA".index))], "kind": "unorm8"} | more
    return StoredImage(
        texel_format_named(str(fields["format"])), channels, str(fields["kind"]), Packing.CHANNELS,
        width, height, 0, layers, 1, [level.tobytes() for level in levels],
    )  # fmt: skip


@pytest.mark.parametrize("block", [*DESKTOP, *MOBILE], ids=lambda block: block.word)
@pytest.mark.parametrize("size", [(64, 64), (61, 34), (1, 1), (2, 5)])
def test_smooth_shades_come_back(block: BlockFormat, size: tuple[int, int]) -> None:
    image = _image([_smooth(*size, len(block.channels))], block.channels)
    plan = block_plan(image, MOBILE if block in MOBILE else DESKTOP)
    if max(size) < 3:
        return  # of one colour: nothing tells which channels are needed
    assert plan is not None and plan.format is block
    texels = level_texels(image, 0)[0]
    blocks = encoded(plan, texels)
    assert len(blocks) == plan.size(image) == -(-size[0] // 4) * -(-size[1] // 4) * block.block_bytes
    out = decoded(plan, blocks, *texels.shape[:2])
    assert out.shape == texels.shape and np.abs(out.astype(int) - texels).mean() < 4
    assert signal_to_noise(plan, image, 1 << 18) > 33


@settings(max_examples=30)
@given(st.integers(1, 40), st.integers(1, 40), st.integers(0, 3), st.integers(1, 3))
def test_bytes_are_those_of_all_blocks(width: int, height: int, levels: int, layers: int) -> None:
    chain = []
    for level in range(levels + 1):
        one = np.random.default_rng(level).integers(2, 250, (max(height >> level, 1), max(width >> level, 1), 4))
        chain.append(np.repeat(one[None].astype(np.uint8), layers, axis=0))
    image = _image(chain, "RGBA", layers)
    plan = block_plan(image, DESKTOP)
    if plan is None:
        assert width * height * layers < 20, "texels so few that they may look like directions, or be alike"
        return
    whole = sum(len(encoded(plan, s)) for k in range(len(chain)) for s in level_texels(image, k))
    assert whole == plan.size(image)


def test_a_sample_of_bands_tells_about_the_same() -> None:
    pixels = np.clip(_smooth(512, 512, 3) + np.random.default_rng(1).normal(0, 6, (512, 512, 3)), 0, 255)
    image = _image([pixels.astype(np.uint8)], "RGB")
    plan = block_plan(image, DESKTOP)
    assert plan is not None
    assert abs(signal_to_noise(plan, image, 1 << 20) - signal_to_noise(plan, image, 1 << 15)) < 0.5


def test_channels_in_another_order_are_found() -> None:
    """Blue comes first in what was read: the blocks hold red first."""
    pixels = _smooth(32, 32, 3)
    straight, turned = _image([pixels], "RGB"), _image([pixels[..., ::-1].copy()], "BGR")
    plans = block_plan(straight, DESKTOP), block_plan(turned, DESKTOP)
    assert plans[0] is not None and plans[1] is not None
    assert encoded(plans[0], level_texels(straight, 0)[0]) == encoded(plans[1], level_texels(turned, 0)[0])


@pytest.mark.parametrize(
    "image",
    [
        _image([_smooth(32, 32, 4)], "RGBA", kind="unorm16", format="RGBA16"),
        _image([_smooth(32, 32, 4)], "RGBA", format="RGBA4"),
        _image([_smooth(32, 32, 4)], "RGBA", format="RGBA8UI", kind="uint8"),
    ],
)
def test_what_is_left_alone(image: StoredImage) -> None:
    assert block_plan(image, DESKTOP) is None


def test_levels_of_any_size_are_no_levels() -> None:
    """Programs may leave levels that do not belong together: nothing is said of them, and nothing breaks."""
    odd = _image([_smooth(32, 32, 4), _smooth(9, 5, 4)], "RGBA")
    assert block_plan(odd, DESKTOP) is None and not directions(odd)
    grey = StoredImage(texel_format_named("R8"), "R", "unorm8", Packing.CHANNELS, 4, 4, 0, 0, 1, [bytes(16)])
    assert not directions(grey)
    for levels in ([bytes(16 * 64), bytes(40)], [b""], [bytes(7)]):
        assert opaque_format(_blocks("COMPRESSED_RGBA_S3TC_DXT5_EXT", levels, 32, 32)) is None


def test_directions_are_told_from_colours() -> None:
    y, x = np.mgrid[0:64, 0:64] / 9
    vectors = np.stack([np.sin(x) * 0.5, np.cos(y) * 0.5, np.ones(x.shape)], -1)
    vectors /= np.linalg.norm(vectors, axis=2, keepdims=True)
    normals = _image([np.rint(vectors * 127.5 + 127.5).astype(np.uint8)], "RGB")
    assert directions(normals) and block_plan(normals, DESKTOP) is None
    assert not directions(_image([_smooth(64, 64, 3)], "RGB"))


def _blocks(format_: str, levels: list[bytes], width: int, height: int) -> StoredImage:
    return StoredImage(texel_format_named(format_), "", "", Packing.BLOCKS, width, height, 0, 0, 1, levels)


@pytest.mark.parametrize(
    ("format_", "plans"), [("COMPRESSED_RGBA_S3TC_DXT5_EXT", DESKTOP), ("COMPRESSED_RGBA8_ETC2_EAC", MOBILE)]
)
def test_colours_of_opaque_blocks_stay_bit_for_bit(format_: str, plans: tuple[BlockFormat, ...]) -> None:
    """Also those of blocks whose ends stand the other way round, or are equal: bits that no encoder need write."""
    source = _image([_smooth(64, 32, 4)], "RGBA")
    plan = block_plan(source, plans)
    assert plan is not None
    opaque = level_texels(source, 0)[0].copy()
    opaque[..., 3] = 255
    blocks = np.frombuffer(encoded(plan, opaque), np.uint8).reshape(-1, 16).copy()
    if plans is DESKTOP:
        blocks[:, 8:] = np.random.default_rng(2).integers(0, 256, (len(blocks), 8))
        blocks[:8, 8:10] = blocks[:8, 10:12]
    image = _blocks(format_, [blocks.tobytes()], 64, 32)
    found = opaque_format(image)
    assert found is not None
    alone = without_alpha(found, image.levels[0])
    assert len(alone) == len(image.levels[0]) // 2
    if plans is MOBILE:
        assert alone == blocks[:, 8:].tobytes()
    else:
        assert (_colours(blocks[:, 8:], True) == _colours(np.frombuffer(alone, np.uint8).reshape(-1, 8), False)).all()


def _colours(blocks: np.ndarray, beside_alpha: bool) -> np.ndarray:
    """Of every texel, by the rules of EXT_texture_compression_s3tc; shape (blocks, texels, channels)."""
    ends = blocks[:, :4].copy().view("<u2").astype(np.int64)
    picks = blocks[:, 4:].copy().view("<u4").astype(np.int64) >> (2 * np.arange(16)) & 3
    parts = np.stack([ends >> 11, ends >> 5 & 63, ends & 31], -1)
    first, last = parts[:, :1], parts[:, 1:]
    four = np.concatenate([3 * first, 3 * last, 2 * first + last, first + 2 * last], axis=1) * 2
    three = np.concatenate([6 * first, 6 * last, 3 * (first + last), 0 * first], axis=1)
    palette = four if beside_alpha else np.where((ends[:, 0] > ends[:, 1])[:, None, None], four, three)
    return np.take_along_axis(palette, picks[..., None], axis=1)


def test_alpha_anywhere_keeps_the_blocks() -> None:
    """In one texel of one level; beyond the edge of a small level nothing counts."""
    plan = block_plan(_image([_smooth(64, 32, 4)], "RGBA"), DESKTOP)
    assert plan is not None
    pixels = np.full((8, 8, 4), 255, np.uint8)
    small = np.full((4, 4, 4), 255, np.uint8)
    small[1:, 1:, 3] = 0  # a level of 1 x 1 has one texel of its block
    levels = [encoded(plan, pixels), encoded(plan, small)]
    name = "COMPRESSED_SRGB_ALPHA_S3TC_DXT5_EXT"
    assert opaque_format(_blocks(name, [levels[0], levels[0][:16], levels[0][:16], levels[1]], 8, 8)) is not None
    pixels[5, 6, 3] = 0
    assert opaque_format(_blocks(name, [encoded(plan, pixels), levels[0][:16]], 8, 8)) is None
    assert opaque_format(_blocks("COMPRESSED_RGBA_BPTC_UNORM", [levels[0]], 8, 8)) is None


def test_textures_of_an_es_program_take_its_own_blocks(capture: Capture) -> None:
    """A program that somebody else wrote: OpenGL ES reads ETC2, and the picture stays near."""
    path, frame = capture(["glmark2-es2", "-b", "texture:texture-filter=mipmap", "-s", "320x240"], frame=5)
    name = next(t.name for t in frame.objects.textures if t.width == 512)
    with Replay(path) as replay:
        rows = replay.run(compressible.asked(10.0))
        assert [(row.texture, row.word) for row in rows] == [(name, "ETC2")] and rows[0].psnr > 33
        assert rows[0].bytes == sum(max((512 >> k) // 4, 1) ** 2 * 8 for k in range(10))
        tried = replay.run(refute.asked([Remedy("compress-textures", [], textures=[name])], 60.0))[0]
    assert tried.outcome is not None and 0 < tried.outcome.max_difference <= 16 and tried.state == HOLDS, tried
