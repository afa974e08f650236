"""Compressed textures without an alpha that is 1 everywhere: the colours of their blocks, as they are."""

from __future__ import annotations

from dataclasses import replace

import msgspec

from wendascope.backends.opengl.changes.frame_change import FrameChange, lowers
from wendascope.backends.opengl.changes.images import replace_each
from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.backends.opengl.objects.records import TextureRecord
from wendascope.backends.opengl.objects.stored_images import stored_image
from wendascope.backends.opengl.objects.texel_formats import internal_format
from wendascope.errors import TrialError
from wendascope.frame.block_codec import opaque_format, without_alpha
from wendascope.frame.remedy import Remedy


@lowers("opaque-blocks")
def opaque_blocks(change: FrameChange, item: Remedy) -> None:
    """Keep the colours of some textures' blocks alone. They are the same by the rules of the format; drivers were seen
    that mix ends the other way round by 1 of 255 otherwise. Raises TrialError where one is not opaque.
    """
    replace_each(change, item.textures, _colours)


def _colours(frame: OpenGLFrame, record: TextureRecord, name: int) -> TextureRecord:
    stored = stored_image(frame, record.bound_name)
    found = opaque_format(stored) if stored is not None else None
    internal = internal_format(replace(found.without.stored, srgb=stored.srgb)) if found and stored else None
    if found is None or internal is None:
        raise TrialError(f"texture {record.name} is not of blocks with an alpha of 1")
    images = []
    for image in record.images:
        assert image.contents is not None
        contents = frame.blobs.put(without_alpha(found, frame.blobs.get(image.contents)))
        images.append(msgspec.structs.replace(image, internal_format=internal, contents=contents))
    return TextureRecord(name, record.target, images, dict(record.parameters), record.immutable_levels)
