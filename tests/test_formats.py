"""How texels are stored: the names of OpenGL as neutral formats, and back."""

from __future__ import annotations

import pytest

from wendascope.backends.opengl.objects.texel_formats import internal_format, texel_format, texel_format_named
from wendascope.backends.opengl.objects.texel_sizes import texel_size
from wendascope.frame.formats import Format, format_named
from wendascope.registry import GL, tables


@pytest.mark.parametrize(
    ("name", "expected"),
    [
        ("RGBA8", Format("", "RGBA", 8, "unorm")),
        ("RG16F", Format("", "RG", 16, "sfloat")),
        ("RGB32UI", Format("", "RGB", 32, "uint")),
        ("R8_SNORM", Format("", "R", 8, "snorm")),
        ("RGB", Format("", "RGB", 8, "unorm")),
        ("SRGB8_ALPHA8", Format("", "RGBA", 8, "unorm", srgb=True)),
        ("SRGB", Format("", "RGB", 8, "unorm", srgb=True)),
        ("DEPTH_COMPONENT32F", Format("", "D", 32, "sfloat")),
        ("DEPTH24_STENCIL8", Format("", "DS")),
        ("R11F_G11F_B10F", Format(packed="10F_11F_11F")),
        ("COMPRESSED_SRGB_ALPHA_S3TC_DXT5_EXT", Format(srgb=True, block="BC3")),
        ("COMPRESSED_RGBA_ASTC_6x5_KHR", Format(block="ASTC 6x5")),
    ],
)
def test_names_of_opengl_are_read(name: str, expected: Format) -> None:
    found = texel_format_named(name)
    assert found == expected and found.name == name


@pytest.mark.parametrize("name", ["RGB565", "RGBA4", "RGB5_A1", "RGB10", "LUMINANCE8", "COMPRESSED_RGB_FXT1_3DFX"])
def test_nothing_is_made_up_of_names_that_tell_no_whole_channels(name: str) -> None:
    found = texel_format_named(name)
    assert not found.is_plain and not found.bits and not found.block and internal_format(found) is None


def test_each_format_comes_back_as_one_that_stores_the_same() -> None:
    """Of all internal formats that OpenGL has; and what has whole channels takes as many bits as they have."""
    known = 0
    for name, value in tables().enum_value.items():
        found = texel_format_named(name.removeprefix("GL_"))
        if not (found.channels or found.block or found.packed):
            continue
        back = internal_format(found)
        assert back is not None and texel_format(back) == found
        known += 1
        size = texel_size(value)
        if found.is_plain and size is not None:
            assert size.bits == len(found.channels) * found.bits, name
            assert format_named(found.word) == found
    assert known > 100


def test_fewer_channels_of_the_same_kind() -> None:
    assert texel_format(GL.RGBA16F).with_channels(1).word == "R16F"
    assert internal_format(texel_format(GL.RGBA8).with_channels(2)) == GL.RG8
    assert format_named("R11F_G11F_B10F") == Format(packed="10F_11F_11F")
    assert format_named("DEPTH_COMPONENT16") is None and format_named("anything") is None
