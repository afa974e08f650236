"""Grey textures as channels of one texture: less memory, and one sample where they are read at one place."""

from __future__ import annotations

import msgspec
import numpy as np
import numpy.typing as npt

from wendascope.backends.opengl.changes.batching.layers import known_textures
from wendascope.backends.opengl.changes.frame_change import FrameChange, lowers
from wendascope.backends.opengl.changes.samplers import rewrite_samplers
from wendascope.backends.opengl.changes.states import active_texture, bind_texture
from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.backends.opengl.objects.formats import pixel_size
from wendascope.backends.opengl.objects.records import ImageRecord, TextureRecord
from wendascope.backends.opengl.tables.written import written_objects
from wendascope.errors import TrialError
from wendascope.frame.remedy import Remedy
from wendascope.glsl.rewriting import as_channels
from wendascope.glsl.rewriting.channels import Channel
from wendascope.registry import GL

_FORMATS = {GL.RGB: 3, GL.RGBA: 4, GL.BGR: 3, GL.BGRA: 4}


@lowers("pack-channels")
def pack_channels(change: FrameChange, item: Remedy) -> None:
    """Put grey textures into the channels of one. Raises TrialError where they do not fit together."""
    frame = change.frame
    if not 2 <= len(item.textures) <= 4:
        raise TrialError("two to four textures fit in the channels of one")
    records = known_textures(frame, item.textures, written_objects(frame).textures)
    packed, alphas = _packed(frame, records, change.new.name())
    channels = {
        texture: Channel(index, alpha) for index, (texture, alpha) in enumerate(zip(item.textures, alphas, strict=True))
    }
    rewrite_samplers(
        change,
        item.textures,
        lambda source, samplers: as_channels(source, {s: channels[t] for s, t in samplers.items()}),
    )
    change.new.objects.textures.append(packed)
    change.added_bytes += sum(i.contents.size for i in packed.images if i.contents)
    for unit, target in frame.history.keys("texture"):
        if frame.history.number("texture", 0, unit, target) in channels:
            bind_texture(change.first, unit - GL.TEXTURE0, target, packed.name)
    if change.first.starts:
        change.first.call("glActiveTexture", active_texture(frame, 0))
    for texture in item.textures:
        change.rename("texture", texture, packed.name)


def _packed(frame: OpenGLFrame, records: list[TextureRecord], name: int) -> tuple[TextureRecord, list[float]]:
    """(the texture that holds them all, the alpha of each). Raises TrialError where they cannot share one."""
    first = records[0]
    for record in records[1:]:
        if [(i.level, i.width, i.height) for i in record.images] != [
            (i.level, i.width, i.height) for i in first.images
        ]:
            raise TrialError(f"textures {first.name} and {record.name} differ in size or in levels")
        if record.parameters != first.parameters:
            raise TrialError(f"textures {first.name} and {record.name} are filtered or repeated differently")
    alphas: list[float] = []
    images = []
    for number, image in enumerate(first.images):
        page = np.full((image.height, image.width, 4), 255, np.uint8)
        for channel, record in enumerate(records):
            grey, alpha = _grey(frame, record, record.images[number])
            page[..., channel] = grey
            if number == 0:
                alphas.append(alpha / 255)
        contents = frame.blobs.put(page.tobytes())
        images.append(
            msgspec.structs.replace(
                image,
                internal_format=GL.RGBA8,
                format=GL.RGBA,
                type=GL.UNSIGNED_BYTE,
                compressed=False,
                contents=contents,
            )
        )
    return TextureRecord(name, GL.TEXTURE_2D, images, dict(first.parameters)), alphas


def _grey(frame: OpenGLFrame, record: TextureRecord, image: ImageRecord) -> tuple[npt.NDArray[np.uint8], int]:
    """(grey of an image, its alpha). Raises TrialError where it has colours, or more than eight bits a channel."""
    if (
        image.compressed
        or image.type != GL.UNSIGNED_BYTE
        or image.internal_format not in (GL.RGB8, GL.RGBA8, GL.RGB, GL.RGBA)
        or image.format not in _FORMATS
    ):
        raise TrialError(f"texture {record.name} is not of eight bits a channel, or not linear")
    assert image.contents is not None
    pixels = np.frombuffer(frame.blobs.get(image.contents), np.uint8).reshape(
        image.height, image.width, pixel_size(image.format, image.type)
    )
    alpha = pixels[..., 3] if pixels.shape[2] == 4 else np.full(pixels.shape[:2], 255, np.uint8)
    if (
        (pixels[..., 0] != pixels[..., 1]).any()
        or (pixels[..., 0] != pixels[..., 2]).any()
        or (alpha != alpha[0, 0]).any()
    ):
        raise TrialError(
            f"level {image.level} of texture {record.name} is not grey, or its alpha differs from texel to texel"
        )
    return pixels[..., 0], int(alpha[0, 0])
