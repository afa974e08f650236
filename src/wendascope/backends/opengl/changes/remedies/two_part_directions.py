"""Unit vectors in two channels, and shaders that rebuild the third."""

from __future__ import annotations

import msgspec

from wendascope.backends.opengl.changes.frame_change import FrameChange, lowers
from wendascope.backends.opengl.changes.images import replace_each
from wendascope.backends.opengl.changes.samplers import rewrite_samplers
from wendascope.backends.opengl.changes.swizzles import without_border
from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.backends.opengl.objects.records import TextureRecord
from wendascope.backends.opengl.objects.stored_images import stored_image
from wendascope.errors import TrialError
from wendascope.frame.block_codec import directions, level_texels
from wendascope.frame.remedy import Remedy
from wendascope.glsl.rewriting import with_third_rebuilt
from wendascope.registry import GL


@lowers("two-part-directions")
def two_part_directions(change: FrameChange, item: Remedy) -> None:
    """Keep red and green of some textures. Raises TrialError where they hold no unit vectors, or are read in a way that
    is not followed.
    """
    rewrite_samplers(change, item.textures, with_third_rebuilt)
    replace_each(change, item.textures, _two_parts)


def _two_parts(frame: OpenGLFrame, record: TextureRecord, name: int) -> TextureRecord:
    stored = stored_image(frame, record.bound_name)
    if stored is None or record.target != GL.TEXTURE_2D or not directions(stored):
        raise TrialError(f"texture {record.name} holds no unit vectors of eight bits a channel")
    without_border(record)
    images = []
    for image in record.images:
        kept = level_texels(stored, image.level)[..., [stored.channels.index(letter) for letter in "RG"]]
        contents = frame.blobs.put(kept.tobytes())
        images.append(
            msgspec.structs.replace(
                image, internal_format=GL.RG8, format=GL.RG, type=GL.UNSIGNED_BYTE, contents=contents
            )
        )
    return TextureRecord(name, record.target, images, dict(record.parameters), record.immutable_levels)
