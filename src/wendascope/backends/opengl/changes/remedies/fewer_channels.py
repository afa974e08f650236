"""Textures without the channels that they store twice, or that are constant, and swizzles that read them as before."""

from __future__ import annotations

import msgspec
import numpy as np

from wendascope.backends.opengl.changes.frame_change import FrameChange, lowers
from wendascope.backends.opengl.changes.images import replace_each
from wendascope.backends.opengl.changes.swizzles import swizzled, without_border
from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.backends.opengl.objects.formats import named_format
from wendascope.backends.opengl.objects.records import TextureRecord
from wendascope.backends.opengl.objects.stored_images import stored_image
from wendascope.backends.opengl.objects.texel_formats import internal_format
from wendascope.errors import TrialError
from wendascope.frame.distinct_channels import distinct_channels
from wendascope.frame.remedy import Remedy


@lowers("fewer-channels")
def fewer_channels(change: FrameChange, item: Remedy) -> None:
    """Give some textures the format that their contents need, at the same size. Raises TrialError."""
    replace_each(change, item.textures, _narrower)


def _narrower(frame: OpenGLFrame, record: TextureRecord, name: int) -> TextureRecord:
    stored = stored_image(frame, record.bound_name)
    channels = distinct_channels(stored) if stored is not None else None
    internal = internal_format(channels.format) if channels else None
    transfer = named_format(internal) if internal is not None else None
    if stored is None or channels is None or internal is None or transfer is None:
        raise TrialError(f"texture {record.name} needs all its channels")
    without_border(record)
    images = []
    for image in record.images:
        assert image.contents is not None
        texels = np.frombuffer(frame.blobs.get(image.contents), np.uint8)
        texels = texels.reshape(image.width * image.height * max(image.depth, 1), channels.stored, -1)
        kept = texels[:, [stored.channels.index(letter) for letter in channels.kept]]
        images.append(
            msgspec.structs.replace(
                image,
                internal_format=internal,
                format=transfer[0],
                type=image.type,
                contents=frame.blobs.put(np.ascontiguousarray(kept).tobytes()),
            )
        )
    parameters = dict(record.parameters) | swizzled(record, channels)
    return TextureRecord(name, record.target, images, parameters, record.immutable_levels)
