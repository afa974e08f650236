"""Textures without the channels that they store twice, or that are constant, and swizzles that read them as before."""

from __future__ import annotations

import msgspec
import numpy as np

from wendascope.analysis.distinct_channels import DistinctChannels, distinct_channels
from wendascope.analysis.remedy import Remedy
from wendascope.errors import TrialError
from wendascope.opengl.formats import named_format
from wendascope.opengl.frame import OpenGLFrame
from wendascope.opengl.objects import TextureRecord
from wendascope.opengl.stored_images import stored_image
from wendascope.opengl.texel_sizes import format_name
from wendascope.registry import GL, tables
from wendascope.trials.remedies._images import not_uploaded, plain_texture, replace_texture
from wendascope.trials.remedies._registry import FrameChange, remedy

_WRAPS = ("TEXTURE_WRAP_S", "TEXTURE_WRAP_T", "TEXTURE_WRAP_R")
_SWIZZLES = {"0": GL.ZERO, "1": GL.ONE, "R": GL.RED, "G": GL.GREEN, "B": GL.BLUE, "A": GL.ALPHA}
_LETTERS = {value: letter for letter, value in _SWIZZLES.items()}


@remedy("fewer-channels")
def fewer_channels(change: FrameChange, item: Remedy) -> None:
    """Give some textures the format that their contents need, at the same size. Raises TrialError."""
    for name in item.textures:
        record = plain_texture(change.frame, name)
        not_uploaded(change.frame, name)
        replace_texture(change, record, _narrower(change.frame, record, change.new.name()))


def _narrower(frame: OpenGLFrame, record: TextureRecord, name: int) -> TextureRecord:
    stored = stored_image(frame, record.bound_name)
    channels = distinct_channels(stored) if stored is not None else None
    internal = tables().enum_value.get(f"GL_{channels.format}") if channels else None
    transfer = named_format(internal) if internal is not None else None
    if stored is None or channels is None or internal is None or transfer is None:
        raise TrialError(f"texture {record.name} needs all its channels")
    if any(int(record.parameters.get(wrap, [GL.REPEAT])[0]) == GL.CLAMP_TO_BORDER for wrap in _WRAPS):
        raise TrialError(f"texture {record.name} has a border, whose colour has channels of its own")
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
    parameters = dict(record.parameters) | _swizzles(record, channels)
    return TextureRecord(name, record.target, images, parameters, record.immutable_levels)


def _swizzles(record: TextureRecord, channels: DistinctChannels) -> dict[str, list[float]]:
    """The texture's own swizzles, through those that find its channels in fewer. Raises TrialError where the context
    knows none.
    """
    if "TEXTURE_SWIZZLE_R" not in record.parameters:
        raise TrialError(f"texture {record.name} belongs to a context that knows no swizzles")
    swizzles = {}
    for letter in "RGBA":
        parameter = f"TEXTURE_SWIZZLE_{letter}"
        own = _LETTERS.get(int(record.parameters[parameter][0]))
        if own is None:
            raise TrialError(f"texture {record.name} of {format_name(record.format)} is swizzled in no way known here")
        swizzles[parameter] = [float(_SWIZZLES[own if own in "01" else channels.swizzle(own)])]
    return swizzles
