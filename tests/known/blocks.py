"""What is said of textures that block compression would hold, and of those that it would spoil."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from OpenGL import GL

from wendascope.backends.opengl.objects.texel_formats import texel_format_named
from wendascope.frame.block_codec import DESKTOP, block_plan, encoded
from wendascope.frame.stored_image import Packing, StoredImage
from wendascope.trials.proofs.verdicts import Verdict

from ._case import Draw, known
from ._draw import TEXTURED, Painter, clear, noise, onto, texture
from ._looking import Looked

_SIDE = 256
_BYTES = 4 * _SIDE * _SIDE


def _photo(alpha: bool = False) -> np.ndarray:
    """Smooth shapes with a little grain."""
    y, x = np.mgrid[0:_SIDE, 0:_SIDE]
    shades = [128 + 90 * np.sin(x / 30 + y / 50), 128 + 80 * np.cos(x / 70), 70 + 50 * np.sin(y / 25)]
    shades.append(128 + 100 * np.sin((x + y) / 60) if alpha else np.full(x.shape, 255.0))
    grain = np.random.default_rng(5).normal(0, 3, (_SIDE, _SIDE, 4))
    grain[..., 3] *= alpha
    return np.clip(np.stack(shades, -1) + grain, 0, 255).astype(np.uint8)


def _shown(name: int, fragment: str = TEXTURED, target: int = GL.GL_TEXTURE_2D) -> Draw:
    painter = Painter(fragment)

    def draw(_: int) -> None:
        onto(0)
        clear()
        painter.use()
        GL.glBindTexture(target, name)
        painter.place(0, 0, 128, 100).draw()

    return draw


def _held_by(word: str, part: int) -> Callable[[Looked], None]:
    def check(looked: Looked) -> None:
        (finding,) = looked.of("compressible-texture")
        assert f"{word} would hold it" in finding.title and finding.less_bytes == _BYTES - _BYTES // part
        assert float(finding.evidence["PSNR, dB"]) > 34
        proof = looked.prove(finding)
        assert proof.verdict == Verdict.CHANGES and 0 < proof.max_difference <= 24, proof.summary
        assert proof.new_bytes == _BYTES // part - _BYTES, proof.summary

    return check


_BESIDE = ("oversized-texture", "missing-mip-levels")


@known(finds={"compressible-texture": 1}, checks=(_held_by("BC1", 8),), allow=_BESIDE)
def a_photo() -> Draw:
    """Opaque colours: an eighth of the bytes."""
    return _shown(texture(_SIDE, _SIDE, _photo()))


@known(finds={"compressible-texture": 1}, checks=(_held_by("BC1", 8),), allow=_BESIDE)
def a_photo_of_encoded_light() -> Draw:
    """The same as sRGB: the format of the blocks says so too, or the picture would be too bright by far."""
    back = TEXTURED.replace("texture(image, uv)", "vec4(pow(texture(image, uv).rgb, vec3(1.0 / 2.2)), 1)")
    return _shown(texture(_SIDE, _SIDE, _photo(), GL.GL_SRGB8_ALPHA8), back)


_BOTH = TEXTURED.replace("texture(image, uv)", "vec4(texture(image, uv).rgb * texture(image, uv).a, 1)")


@known(finds={"compressible-texture": 1}, checks=(_held_by("BC3", 4),), allow=_BESIDE)
def a_photo_with_alpha() -> Draw:
    """Alpha of its own: a quarter of the bytes."""
    return _shown(texture(_SIDE, _SIDE, _photo(alpha=True)), _BOTH)


@known(finds={"compressible-texture": 1, "spare-channels": 1}, checks=(_held_by("BC4", 8),), allow=_BESIDE)
def a_grey_photo() -> Draw:
    """One channel of blocks, read as three."""
    pixels = _photo()
    pixels[..., 1:3] = pixels[..., :1]
    return _shown(texture(_SIDE, _SIDE, pixels))


@known(finds={"compressible-texture": 1}, allow=_BESIDE, checks=(lambda looked: _near(looked),))
def photos_in_layers() -> Draw:
    """An array of two, whose second is shown; its sides are no multiples of four."""
    name = int(GL.glGenTextures(1))
    GL.glBindTexture(GL.GL_TEXTURE_2D_ARRAY, name)
    pixels = np.stack([_photo()[::-1], _photo()])[:, :250, :250]
    data = (250, 250, 2, 0, GL.GL_RGBA, GL.GL_UNSIGNED_BYTE, np.ascontiguousarray(pixels))
    GL.glTexImage3D(GL.GL_TEXTURE_2D_ARRAY, 0, GL.GL_RGBA8, *data)
    for parameter in (GL.GL_TEXTURE_MIN_FILTER, GL.GL_TEXTURE_MAG_FILTER):
        GL.glTexParameteri(GL.GL_TEXTURE_2D_ARRAY, parameter, GL.GL_LINEAR)
    layered = TEXTURED.replace("sampler2D", "sampler2DArray").replace("image, uv", "image, vec3(uv, 1.0)")
    return _shown(name, layered, GL.GL_TEXTURE_2D_ARRAY)


def _near(looked: Looked) -> None:
    (finding,) = looked.of("compressible-texture")
    proof = looked.prove(finding)
    assert proof.verdict == Verdict.CHANGES and 0 < proof.max_difference <= 24, proof.summary
    assert proof.new_bytes == 2 * 63 * 63 * 8 - 2 * 250 * 250 * 4, proof.summary


def _in_blocks(pixels: np.ndarray) -> int:
    """A texture in blocks with alpha, and one level, that the encoder of the tool itself makes."""
    image = StoredImage(
        texel_format_named("RGBA8"), "RGBA", "unorm8", Packing.CHANNELS, _SIDE, _SIDE, 0, 0, 1, [_photo(True).tobytes()]
    )
    plan = block_plan(image, DESKTOP)
    assert plan is not None
    name = texture(_SIDE, _SIDE, internal=0x83F3)  # GL_COMPRESSED_RGBA_S3TC_DXT5_EXT
    blocks = np.frombuffer(encoded(plan, pixels), np.uint8).reshape(-1, 16).copy()
    turned = blocks[::2]  # ends that change places, and picks with them: the same colours
    turned[:, 8:12] = turned[:, [10, 11, 8, 9]]
    turned[:, 12:] ^= 0x55
    GL.glCompressedTexSubImage2D(GL.GL_TEXTURE_2D, 0, 0, 0, _SIDE, _SIDE, 0x83F3, blocks)
    return name


def _half(looked: Looked) -> None:
    (finding,) = looked.of("opaque-blocks")
    proof = looked.prove(finding)
    assert proof.max_difference <= 1 and proof.new_bytes == -finding.less_bytes == -_SIDE * _SIDE // 2, proof.summary


@known(finds={"opaque-blocks": 1, "compressible-texture": 0}, checks=(_half,), allow=_BESIDE)
def blocks_whose_alpha_is_1() -> Draw:
    """Half of every block says nothing: the colours alone are the same picture, but for drivers that mix
    ends that stand the other way round by 1 of 255 otherwise.
    """
    return _shown(_in_blocks(_photo()), _BOTH)


@known(finds={"opaque-blocks": 0}, allow=_BESIDE)
def blocks_with_a_hole() -> Draw:
    """Trap: one texel is transparent."""
    pixels = _photo()
    pixels[100, 50, 3] = 0
    return _shown(_in_blocks(pixels), _BOTH)


@known(finds={"compressible-texture": 0}, allow=_BESIDE)
def noise_that_no_block_holds() -> Draw:
    """Trap: every texel is of another colour."""
    pixels = noise(_SIDE, _SIDE)
    pixels[..., 3] = 255
    return _shown(texture(_SIDE, _SIDE, pixels))


@known(finds={"compressible-texture": 0}, allow=_BESIDE)
def letters_with_hard_edges() -> Draw:
    """Trap: four colours in every few texels, as in a sheet of icons."""
    colours = np.array([[255, 0, 0, 255], [0, 255, 0, 255], [0, 0, 255, 255], [255, 255, 255, 255]], np.uint8)
    return _shown(texture(_SIDE, _SIDE, colours[np.random.default_rng(3).integers(0, 4, (_SIDE, _SIDE))]))


# ---- unit vectors ------------------------------------------------------------------------------------------


def _vectors(steepness: float = 0.4, length: float = 1.0) -> np.ndarray:
    y, x = np.mgrid[0:_SIDE, 0:_SIDE] / 20
    vectors = np.stack([np.sin(x) * steepness, np.cos(y) * steepness, np.ones(x.shape)], -1)
    vectors *= length / np.linalg.norm(vectors, axis=2, keepdims=True)
    return np.asarray(np.rint(np.concatenate([vectors * 0.5 + 0.5, np.ones((_SIDE, _SIDE, 1))], -1) * 255))


def _lit(shade: str) -> str:
    return TEXTURED.replace("texture(image, uv)", f"vec4(vec3({shade}), 1)")


_BY_LIGHT = _lit("pow(max(dot(normalize(texture(image, uv).xyz * 2.0 - 1.0), vec3(0.6, 0.0, 0.8)), 0.0), 8.0)")


def _half_of_them(looked: Looked) -> None:
    (finding,) = looked.of("stored-directions")
    proof = looked.prove(finding)
    assert proof.max_difference <= 8 and proof.new_bytes == -_BYTES // 2, proof.summary


@known(
    finds={"stored-directions": 1, "compressible-texture": 0, "spare-channels": 0},
    checks=(_half_of_them,),
    allow=_BESIDE,
)
def directions_of_a_surface() -> Draw:
    """Smooth as a photo, but its texels are unit vectors, which lighting makes much of: no blocks; two channels."""
    return _shown(texture(_SIDE, _SIDE, _vectors()), _BY_LIGHT)


@known(finds={"stored-directions": 0}, allow=_BESIDE)
def directions_that_are_shorter() -> Draw:
    """Trap: vectors of 0.95, as filtering leaves them: their length is lost with the third channel."""
    return _shown(texture(_SIDE, _SIDE, _vectors(length=0.95)), _BY_LIGHT)


@known(finds={"stored-directions": 0}, allow=_BESIDE)
def directions_that_lie_flat() -> Draw:
    """Trap: so steep that the third part hangs on the last bit of the others."""
    return _shown(texture(_SIDE, _SIDE, _vectors(steepness=6.0)), _BY_LIGHT)


@known(finds={"stored-directions": 0}, allow=_BESIDE)
def directions_whose_length_is_shown() -> Draw:
    """Trap: the shader makes much of what rounding leaves of their length, and replay refutes it."""
    by_length = _lit("abs(length(texture(image, uv).xyz * 2.0 - 1.0) - 1.0) * 200.0")
    return _shown(texture(_SIDE, _SIDE, _vectors()), by_length)


def _not_tried(looked: Looked) -> None:
    (finding,) = looked.of("stored-directions")
    assert finding.remedy is None and "different textures" in finding.refused


@known(
    finds={"stored-directions": 1},
    checks=(_not_tried,),
    allow=(*_BESIDE, "mergeable", "textured-batch", "draw-plan", "copies"),
)
def a_sampler_of_directions_and_colours() -> Draw:
    """Trap: the same shader shows vectors and a photo: rebuilt, the photo would lose its blue; said, and not tried."""
    names = texture(_SIDE, _SIDE, _vectors()), texture(_SIDE, _SIDE, _photo())
    painter = Painter(TEXTURED)

    def draw(_: int) -> None:
        onto(0)
        clear()
        painter.use()
        for name, x in zip(names, (0, 80), strict=True):
            GL.glBindTexture(GL.GL_TEXTURE_2D, name)
            painter.place(x, 0, x + 80, 100).draw()

    return draw


@known(finds={"compressible-texture": 0}, allow=_BESIDE)
def a_photo_of_which_the_shader_makes_much() -> Draw:
    """Trap: little is lost of the texture, and the shader shows differences of its texels forty times as large."""
    much = TEXTURED.replace("texture(image, uv)", "vec4(fract(texture(image, uv).rgb * 40.0), 1)")
    return _shown(texture(_SIDE, _SIDE, _photo()), much)


@known(finds={"compressible-texture": 0}, allow=_BESIDE)
def a_photo_that_comes_anew() -> Draw:
    """Trap: uploaded in every frame, as of a film: nobody compresses it in time."""
    name = texture(_SIDE, _SIDE, _photo())
    shown = _shown(name)

    def draw(frame: int) -> None:
        GL.glBindTexture(GL.GL_TEXTURE_2D, name)
        size = (0, 0, _SIDE, _SIDE, GL.GL_RGBA, GL.GL_UNSIGNED_BYTE)
        GL.glTexSubImage2D(GL.GL_TEXTURE_2D, 0, *size, np.roll(_photo(), frame, axis=0))
        shown(frame)

    return draw
