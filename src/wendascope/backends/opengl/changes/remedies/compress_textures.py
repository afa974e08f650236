"""Textures in blocks, which take an eighth to a half of the bytes and are decoded where they are read."""

from __future__ import annotations

import msgspec

from wendascope.backends.opengl.changes.frame_change import FrameChange, lowers
from wendascope.backends.opengl.changes.images import replace_each
from wendascope.backends.opengl.changes.swizzles import swizzled, without_border
from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.backends.opengl.objects.records import TextureRecord
from wendascope.backends.opengl.objects.stored_images import stored_image
from wendascope.backends.opengl.objects.texel_formats import internal_format
from wendascope.errors import TrialError
from wendascope.frame.block_codec import block_formats, block_plan, encoded, level_texels
from wendascope.frame.remedy import Remedy
from wendascope.registry import GL

_KINDS = (GL.TEXTURE_2D, GL.TEXTURE_2D_ARRAY, GL.TEXTURE_CUBE_MAP)


@lowers("compress-textures")
def compress_textures(change: FrameChange, item: Remedy) -> None:
    """Compress some textures for the GPUs that the frame's API is for. Raises TrialError."""
    replace_each(change, item.textures, _compressed)


def _compressed(frame: OpenGLFrame, record: TextureRecord, name: int) -> TextureRecord:
    stored = stored_image(frame, record.bound_name)
    plan = block_plan(stored, block_formats(frame.context.es)) if stored is not None else None
    internal = internal_format(plan.stored) if plan else None
    if stored is None or plan is None or internal is None or record.target not in _KINDS:
        raise TrialError(f"texture {record.name} is stored in a way that is not compressed here")
    parameters = dict(record.parameters)
    if plan.fewer is not None:
        without_border(record)
        parameters |= swizzled(record, plan.fewer)
    images = []
    for image in record.images:
        slices = level_texels(stored, image.level)
        if record.target == GL.TEXTURE_CUBE_MAP:
            face = image.target - GL.TEXTURE_CUBE_MAP_POSITIVE_X
            slices = slices[face : face + 1]
        blocks = b"".join(encoded(plan, slice_) for slice_ in slices)
        contents = frame.blobs.put(blocks)
        images.append(
            msgspec.structs.replace(
                image, internal_format=internal, format=0, type=0, compressed=True, contents=contents
            )
        )
    return TextureRecord(name, record.target, images, parameters, record.immutable_levels)
