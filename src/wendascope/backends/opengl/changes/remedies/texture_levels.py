"""Textures without their finest levels, and with the levels that they lack."""

from __future__ import annotations

import msgspec

from wendascope.backends.opengl.changes.frame_change import FrameChange, lowers
from wendascope.backends.opengl.changes.images import half_as_large, replace_each
from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.backends.opengl.objects.records import ImageRecord, TextureRecord
from wendascope.errors import TrialError
from wendascope.frame.remedy import Remedy
from wendascope.registry import GL

_NO_LIMIT = 1000.0
_MAX_LEVEL = "TEXTURE_MAX_LEVEL"


@lowers("drop-levels")
def drop_levels(change: FrameChange, item: Remedy) -> None:
    """Leave out so many of the finest levels of some textures, which have more. Raises TrialError."""
    _replace(change, item, enough=True)


@lowers("smaller-textures")
def smaller_textures(change: FrameChange, item: Remedy) -> None:
    """Textures at a half, a quarter, ... of their width and height, made of their first level where they have too few.
    Raises TrialError.
    """
    _replace(change, item, enough=False)


def _replace(change: FrameChange, item: Remedy, enough: bool) -> None:
    count = int(item.values.get("levels", 1))
    if count < 1 or not item.textures:
        raise TrialError("at least one level has to be left out of a texture")

    def made(frame: OpenGLFrame, record: TextureRecord, name: int) -> TextureRecord:
        if enough and record.levels <= count:
            raise TrialError(f"texture {record.name} has no level {count}")
        return _smaller(frame, record, count, name)

    replace_each(change, item.textures, made)


def _smaller(frame: OpenGLFrame, record: TextureRecord, count: int, name: int) -> TextureRecord:
    images = record.images
    if record.levels > count:
        kept = [msgspec.structs.replace(i, level=i.level - count) for i in images if i.level >= count]
    else:
        kept = list(images)
        for _ in range(count):
            kept = [half_as_large(frame, record, image) for image in kept if image.level == 0]
    parameters = dict(record.parameters)
    for parameter in ("TEXTURE_BASE_LEVEL", _MAX_LEVEL):
        if parameter in parameters and parameters[parameter][0] < _NO_LIMIT:
            parameters[parameter] = [max(parameters[parameter][0] - count, 0.0)]
    levels = max(record.immutable_levels - count, 1) if record.immutable_levels else 0
    return TextureRecord(name, record.target, kept, parameters, levels)


@lowers("mip-levels")
def mip_levels(change: FrameChange, item: Remedy) -> None:
    """Give some textures all their mip levels, and let them be read. Raises TrialError."""
    if change.frame.samplers_decide:
        raise TrialError("sampler objects decide how textures are read, which are not changed here")
    replace_each(change, item.textures, _with_levels)


def _with_levels(frame: OpenGLFrame, record: TextureRecord, name: int) -> TextureRecord:
    images: list[ImageRecord] = [image for image in record.images if image.level == 0]
    level = images
    while max(level[0].width, level[0].height) > 1:
        level = [half_as_large(frame, record, image) for image in level]
        for image in level:
            image.level += 1
        images = images + level
    least = int(record.parameters.get("TEXTURE_MIN_FILTER", [GL.LINEAR])[0])
    wanted = GL.NEAREST_MIPMAP_NEAREST if least == GL.NEAREST else GL.LINEAR_MIPMAP_LINEAR
    parameters = record.parameters | {"TEXTURE_MIN_FILTER": [float(wanted)], _MAX_LEVEL: [_NO_LIMIT]}
    return TextureRecord(name, record.target, images, parameters)
