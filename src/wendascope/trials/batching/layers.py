"""Textures of one shape put into one texture array."""

from __future__ import annotations

import msgspec

from wendascope.errors import TrialError
from wendascope.frame.frame import Frame
from wendascope.frame.objects import ImageRecord, TextureRecord
from wendascope.registry import GL


def array_of(frame: Frame, textures: list[int], written: set[int], name: int) -> TextureRecord:
    """A texture array called `name` with one layer a texture, levels and parameters as they are.

    `written` are textures that the frame writes. Raises TrialError where they cannot be layers of one array.
    """
    records = []
    for texture in textures:
        record = frame.objects.texture(texture)
        if record is None or record.target != GL.TEXTURE_2D or not record.images:
            raise TrialError(f"texture {texture} is no plain two-dimensional one")
        if texture in written:
            raise TrialError(f"the frame itself writes texture {texture}")
        if any(image.contents is None for image in record.images):
            raise TrialError(f"the contents of texture {texture} are not known")
        records.append(record)
    first = records[0]
    for record in records[1:]:
        if [_shape(i) for i in record.images] != [_shape(i) for i in first.images]:
            raise TrialError(f"textures {first.name} and {record.name} differ in size or format; they need an atlas")
        if record.parameters != first.parameters:
            raise TrialError(f"textures {first.name} and {record.name} are filtered or repeated differently")
    images = []
    for number, image in enumerate(first.images):
        contents = b"".join(frame.blobs.get(ref) for r in records if (ref := r.images[number].contents) is not None)
        images.append(msgspec.structs.replace(image, target=GL.TEXTURE_2D_ARRAY, depth=len(records), contents=frame.blobs.put(contents)))
    return TextureRecord(name, GL.TEXTURE_2D_ARRAY, images, dict(first.parameters))


def _shape(image: ImageRecord) -> tuple[int, ...]:
    return image.level, image.width, image.height, image.internal_format, image.format, image.type, image.compressed
