"""What is said of textures that store a channel twice, a constant, or one colour; and what looks like it."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from OpenGL import GL

from ._case import Draw, known
from ._draw import TEXTURED, Painter, clear, noise, onto, texture
from ._looking import Looked

_SIDE = 128
_BYTES = 4 * _SIDE * _SIDE
_WITH_ALPHA = TEXTURED.replace(
    "texture(image, uv)", "vec4(texture(image, uv).rgb * 0.5 + texture(image, uv).a * 0.5, 1)"
)


def _shown(name: int, fragment: str = _WITH_ALPHA) -> Draw:
    painter = Painter(fragment)

    def draw(_: int) -> None:
        onto(0)
        clear()
        painter.use()
        GL.glBindTexture(GL.GL_TEXTURE_2D, name)
        painter.place(0, 0, _SIDE, 100).draw()

    return draw


def _pixels(**channels: int | None) -> np.ndarray:
    """Noise; `r=0` sets a channel, `g=None` leaves it equal to the channel before."""
    pixels = noise(_SIDE, _SIDE)
    for letter, value in channels.items():
        at = "rgba".index(letter)
        pixels[..., at] = pixels[..., at - 1] if value is None else value
    return pixels


def _fewer(format_: str, then: int) -> Callable[[Looked], None]:
    def check(looked: Looked) -> None:
        (finding,) = looked.of("spare-channels")
        assert (finding.evidence["formats"], finding.evidence["bytes then"]) == (format_, then), finding.title
        proof = looked.prove(finding)
        assert proof.pixels_different == 0 and proof.new_bytes == then - _BYTES, proof.summary

    return check


@known(finds={"spare-channels": 1}, checks=(_fewer("R8", _BYTES // 4),))
def a_grey_texture() -> Draw:
    """Grey, and alpha is 1: one channel holds it."""
    return _shown(texture(_SIDE, _SIDE, _pixels(g=None, b=None, a=255)))


@known(finds={"spare-channels": 1}, checks=(_fewer("RG8", _BYTES // 2),))
def a_grey_texture_with_alpha() -> Draw:
    """Grey, and alpha is another noise: two channels."""
    return _shown(texture(_SIDE, _SIDE, _pixels(g=None, b=None)))


@known(finds={"spare-channels": 1}, checks=(_fewer("R8", _BYTES // 4),))
def a_white_texture_with_alpha() -> Draw:
    """As glyphs are often stored: white, and alpha is the shape."""
    return _shown(texture(_SIDE, _SIDE, _pixels(r=255, g=255, b=255)))


@known(finds={"spare-channels": 1}, checks=(_fewer("R8", _BYTES // 4),))
def a_grey_texture_that_is_swizzled() -> Draw:
    """It is read with red as alpha and alpha as red already: both swizzles together give the same."""
    name = texture(_SIDE, _SIDE, _pixels(g=None, b=None, a=0))
    for parameter, value in (
        (GL.GL_TEXTURE_SWIZZLE_R, GL.GL_ALPHA),
        (GL.GL_TEXTURE_SWIZZLE_G, GL.GL_GREEN),
        (GL.GL_TEXTURE_SWIZZLE_B, GL.GL_ONE),
        (GL.GL_TEXTURE_SWIZZLE_A, GL.GL_RED),
    ):
        GL.glTexParameteri(GL.GL_TEXTURE_2D, parameter, value)
    return _shown(name)


@known(finds={"spare-channels": 0, "plain-texture": 0})
def grey_but_in_a_coarser_level() -> Draw:
    """Trap: the finest level is grey, and the level that is shown has colours."""
    name = int(GL.glGenTextures(1))
    GL.glBindTexture(GL.GL_TEXTURE_2D, name)
    for level, pixels in enumerate((_pixels(g=None, b=None, a=255), noise(_SIDE // 2, _SIDE // 2))):
        side = _SIDE >> level
        data = (side, side, 0, GL.GL_RGBA, GL.GL_UNSIGNED_BYTE, np.ascontiguousarray(pixels))
        GL.glTexImage2D(GL.GL_TEXTURE_2D, level, GL.GL_RGBA8, *data)
    GL.glTexParameteri(GL.GL_TEXTURE_2D, GL.GL_TEXTURE_MAX_LEVEL, 1)
    return _shown(name)


@known(finds={"spare-channels": 0})
def grey_but_for_one_texel() -> Draw:
    """Trap: one texel of 16,384 has a colour, and is not opaque."""
    pixels = _pixels(g=None, b=None, a=255)
    pixels[77, 33] ^= np.array((0, 1, 2, 4), np.uint8)
    return _shown(texture(_SIDE, _SIDE, pixels))


def _not_to_be_made(looked: Looked) -> None:
    (finding,) = looked.of("spare-channels")
    assert finding.remedy is None and "border" in finding.refused


@known(finds={"spare-channels": 1}, checks=(_not_to_be_made,))
def a_grey_texture_with_a_border() -> Draw:
    """Trap: what lies outside of it has a colour of its own, which one channel does not hold."""
    name = texture(_SIDE, _SIDE, _pixels(g=None, b=None, a=255))
    GL.glTexParameterfv(GL.GL_TEXTURE_2D, GL.GL_TEXTURE_BORDER_COLOR, (1.0, 0.2, 0.0, 0.5))
    for wrap in (GL.GL_TEXTURE_WRAP_S, GL.GL_TEXTURE_WRAP_T):
        GL.glTexParameteri(GL.GL_TEXTURE_2D, wrap, GL.GL_CLAMP_TO_BORDER)
    return _shown(name, _WITH_ALPHA.replace("uv)", "uv * 1.5)"))


@known(finds={"spare-channels": 0})
def grey_when_the_frame_begins() -> Draw:
    """Trap: the frame gives it colours before it is drawn, and makes it grey again."""
    name = texture(_SIDE, _SIDE, _pixels(g=None, b=None, a=255))
    shown = _shown(name)

    def upload(pixels: np.ndarray) -> None:
        GL.glBindTexture(GL.GL_TEXTURE_2D, name)
        size = (0, 0, _SIDE, _SIDE, GL.GL_RGBA, GL.GL_UNSIGNED_BYTE)
        GL.glTexSubImage2D(GL.GL_TEXTURE_2D, 0, *size, np.ascontiguousarray(pixels))

    def draw(frame: int) -> None:
        upload(noise(_SIDE, _SIDE, 3))
        shown(frame)
        upload(_pixels(g=None, b=None, a=255))

    return draw


# ---- one colour --------------------------------------------------------------------------------------------


def _one_texel(looked: Looked) -> None:
    (finding,) = looked.of("solid-texture")
    assert finding.less_bytes == _BYTES
    proof = looked.prove(finding)
    assert proof.pixels_different == 0 and proof.new_bytes == 4 - _BYTES, proof.summary


@known(finds={"solid-texture": 1, "spare-channels": 0}, checks=(_one_texel,))
def a_texture_of_one_colour() -> Draw:
    """No channel is 0 or 1, and all texels are alike."""
    return _shown(texture(_SIDE, _SIDE, _pixels(r=90, g=140, b=20, a=200)))


@known(finds={"solid-texture": 0, "spare-channels": 0})
def one_colour_but_in_a_corner() -> Draw:
    """Trap: the last texel differs."""
    pixels = _pixels(r=90, g=140, b=20, a=200)
    pixels[-1, -1] = (91, 141, 21, 201)
    return _shown(texture(_SIDE, _SIDE, pixels))


@known(finds={"solid-texture": 0, "spare-channels": 0})
def one_colour_whose_size_is_asked_for() -> Draw:
    """Trap: the shader draws by the size of the texture: one texel gives another picture, and replay refutes it."""
    by_size = _WITH_ALPHA.replace("1)", "1) * float(textureSize(image, 0).x) / 200.0")
    return _shown(texture(_SIDE, _SIDE, _pixels(r=90, g=140, b=20, a=200)), by_size)
