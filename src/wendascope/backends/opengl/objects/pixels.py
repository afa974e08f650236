"""Contents of textures as pixels that can be looked at and compared."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
import numpy.typing as npt

from wendascope.registry import GL

if TYPE_CHECKING:
    from wendascope.backends.opengl.frame import OpenGLFrame
    from wendascope.backends.opengl.objects.records import TextureRecord

_CHANNELS = {
    GL.RED: 1,
    GL.RG: 2,
    GL.RGB: 3,
    GL.RGBA: 4,
    GL.BGRA: 4,
    GL.BGR: 3,
    GL.LUMINANCE: 1,
    GL.ALPHA: 1,
    GL.LUMINANCE_ALPHA: 2,
}


def stored_channels(texture: TextureRecord) -> int:
    """Bytes of a texel of the first level, which is its channels where each has eight bits; 0 where none are kept."""
    image = texture.images[0] if texture.images else None
    if image is None or image.contents is None:
        return 0
    return image.contents.size // max(image.width * image.height, 1)


def texture_pixels(frame: OpenGLFrame, name: int) -> npt.NDArray[np.uint8] | None:
    """The first level of a texture with eight bits a channel as RGBA, bottom row first; None where that is not
    known.
    """
    record = frame.objects.texture(name)
    image = record.images[0] if record and record.images else None
    if (
        image is None
        or image.contents is None
        or image.compressed
        or image.type != GL.UNSIGNED_BYTE
        or image.format not in _CHANNELS
    ):
        return None
    channels = _CHANNELS[image.format]
    data = np.frombuffer(frame.blobs.get(image.contents), np.uint8)
    if len(data) < image.width * image.height * channels:
        return None
    pixels = data[: image.width * image.height * channels].reshape(image.height, image.width, channels)
    full = np.full((image.height, image.width, 4), 255, np.uint8)
    full[..., : min(channels, 4)] = pixels
    if channels == 1:
        full[..., 1] = full[..., 2] = pixels[..., 0]
    if image.format in (GL.BGRA, GL.BGR):
        full[..., :3] = full[..., 2::-1]
    return full
