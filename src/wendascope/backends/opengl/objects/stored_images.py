"""Textures as their captured contents have them."""

from __future__ import annotations

from typing import TYPE_CHECKING

from wendascope.backends.opengl.objects.texel_formats import texel_format
from wendascope.backends.opengl.objects.texel_values import CHANNELS, WHOLE
from wendascope.frame.stored_image import Packing, StoredImage
from wendascope.registry import GL

if TYPE_CHECKING:
    from wendascope.backends.opengl.frame import OpenGLFrame

_KINDS = {
    GL.UNSIGNED_BYTE: ("u", 8), GL.BYTE: ("s", 8), GL.UNSIGNED_SHORT: ("u", 16), GL.SHORT: ("s", 16),
    GL.UNSIGNED_INT: ("u", 32), GL.INT: ("s", 32), GL.HALF_FLOAT: ("f", 16), GL.FLOAT: ("f", 32),
}  # fmt: skip
_PACKED = {
    GL.UNSIGNED_INT_10F_11F_11F_REV: "10F_11F_11F", GL.UNSIGNED_INT_5_9_9_9_REV: "5_9_9_9",
    GL.UNSIGNED_INT_2_10_10_10_REV: "2_10_10_10",
}  # fmt: skip


def stored_image(frame: OpenGLFrame, name: int) -> StoredImage | None:
    """A texture by the name that it is bound by; None where not all of it is kept, or its pixels are of no kind that is
    known here.
    """
    texture = frame.objects.texture(name)
    if (
        texture is None
        or not texture.images
        or not all(i.contents for i in texture.images)
        or texture.images[0].samples
    ):
        return None
    first = texture.images[0]
    if first.compressed:
        channels, kind, packing = "", "", Packing.BLOCKS
    elif first.type in _PACKED:
        channels, kind, packing = "", _PACKED[first.type], Packing.PACKED
    elif first.type in _KINDS and first.format in CHANNELS:
        letter, bits = _KINDS[first.type]
        numbers = "int" if first.format in WHOLE else "norm"
        kind = f"sfloat{bits}" if letter == "f" else f"{letter}{numbers}{bits}"
        channels, packing = CHANNELS[first.format], Packing.CHANNELS
    else:
        return None
    levels: dict[int, bytes] = {}
    for image in sorted(texture.images, key=lambda i: (i.level, i.target)):
        assert image.contents is not None
        levels[image.level] = levels.get(image.level, b"") + frame.blobs.get(image.contents)
    if sorted(levels) != list(range(len(levels))):
        return None
    target, depth = texture.target, max(first.depth, 1)
    cube = target in (GL.TEXTURE_CUBE_MAP, GL.TEXTURE_CUBE_MAP_ARRAY)
    layers = {GL.TEXTURE_2D_ARRAY: depth, GL.TEXTURE_CUBE_MAP_ARRAY: depth // 6, GL.TEXTURE_1D_ARRAY: first.height}
    height = 0 if target in (GL.TEXTURE_1D, GL.TEXTURE_1D_ARRAY) else first.height
    return StoredImage(
        texel_format(first.internal_format), channels, kind, packing, first.width, height,
        depth if target == GL.TEXTURE_3D else 0, layers.get(target, 0), 6 if cube else 1,
        [levels[k] for k in range(len(levels))],
    )  # fmt: skip
