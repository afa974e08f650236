"""Several textures put into one: layers of an array where they have one shape, places on an atlas page where they
have not.
"""

from __future__ import annotations

from dataclasses import dataclass

import msgspec
import numpy as np

from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.backends.opengl.objects.formats import pixel_size
from wendascope.backends.opengl.objects.records import ImageRecord, TextureRecord
from wendascope.errors import TrialError
from wendascope.frame.page_packing import pack, power_of_two
from wendascope.registry import GL

_MOST_LEVELS = 5
"""Levels that a page has at most: each needs twice the border of the one before."""


@dataclass(frozen=True)
class PageOf:
    """A page of an atlas, and where each texture lies on it: (x, y, width, height) in shares of the page."""

    record: TextureRecord
    places: dict[int, tuple[float, float, float, float]]


def array_of(frame: OpenGLFrame, textures: list[int], written: set[int], name: int) -> TextureRecord:
    """A texture array called `name` with one layer a texture, levels and parameters as they are.

    `written` are textures that the frame writes. Raises TrialError where they cannot be layers of one array.
    """
    records = known_textures(frame, textures, written)
    first = records[0]
    for record in records[1:]:
        if [_shape(i) for i in record.images] != [_shape(i) for i in first.images]:
            raise TrialError(f"textures {first.name} and {record.name} differ in size or format")
        if record.parameters != first.parameters:
            raise TrialError(f"textures {first.name} and {record.name} are filtered or repeated differently")
    images = []
    for number, image in enumerate(first.images):
        contents = b"".join(frame.blobs.get(ref) for r in records if (ref := r.images[number].contents) is not None)
        images.append(
            msgspec.structs.replace(
                image, target=GL.TEXTURE_2D_ARRAY, depth=len(records), contents=frame.blobs.put(contents)
            )
        )
    return TextureRecord(name, GL.TEXTURE_2D_ARRAY, images, dict(first.parameters))


def page_of(frame: OpenGLFrame, textures: list[int], written: set[int], name: int) -> PageOf:
    """An atlas page called `name` with all textures, their borders repeated round them, for as many levels as all have.

    Its sides are powers of two, so that places on it are exact. Raises TrialError where they cannot share a page.
    """
    records = known_textures(frame, textures, written)
    first = records[0]
    for record in records[1:]:
        if _pixels(record) != _pixels(first):
            raise TrialError(f"textures {first.name} and {record.name} differ in format")
        if record.parameters != first.parameters:
            raise TrialError(f"textures {first.name} and {record.name} are filtered or repeated differently")
    if first.images[0].compressed:
        raise TrialError("compressed textures would have to be compressed again on their page")
    levels = min(*(_complete_levels(r) for r in records), _MOST_LEVELS)
    pad = 1 << (levels - 1) if levels > 1 else 2
    align = 1 << (levels - 1)
    limit = frame.context.limits.get("MAX_TEXTURE_SIZE", 4096)
    sizes = {r.name: (r.width, r.height) for r in records}
    pages = pack(sizes, limit, pad, align=align)
    if len(pages) != 1 or len(pages[0]) != len(records):
        raise TrialError(f"the textures do not fit on one page of {limit} pixels")
    width = power_of_two(max(x + sizes[n][0] for n, x, _, _ in pages[0]) + pad)
    height = power_of_two(max(y + sizes[n][1] for n, _, y, _ in pages[0]) + pad)
    each = pixel_size(first.images[0].format, first.images[0].type)
    wrapped = _repeats(first)
    images = []
    for level in range(levels):
        page = np.zeros((max(height >> level, 1), max(width >> level, 1), each), np.uint8)
        for texture, x, y, _ in pages[0]:
            record = next(r for r in records if r.name == texture)
            image = next(i for i in record.images if i.level == level)
            assert image.contents is not None
            pixels = np.frombuffer(frame.blobs.get(image.contents), np.uint8).reshape(image.height, image.width, each)
            border = max(pad >> level, 1)
            padded = np.pad(pixels, ((border, border), (border, border), (0, 0)), mode="wrap" if wrapped else "edge")
            x0, y0 = (x >> level) - border, (y >> level) - border
            page[y0 : y0 + padded.shape[0], x0 : x0 + padded.shape[1]] = padded
        images.append(
            msgspec.structs.replace(
                first.images[0],
                level=level,
                width=page.shape[1],
                height=page.shape[0],
                contents=frame.blobs.put(page.tobytes()),
            )
        )
    parameters = dict(first.parameters) | {"TEXTURE_MAX_LEVEL": [float(levels - 1)]}
    places = {n: (x / width, y / height, sizes[n][0] / width, sizes[n][1] / height) for n, x, y, _ in pages[0]}
    return PageOf(TextureRecord(name, GL.TEXTURE_2D, images, parameters), places)


def known_textures(frame: OpenGLFrame, textures: list[int], written: set[int]) -> list[TextureRecord]:
    """Plain two-dimensional textures whose contents are those captured, the whole frame long. Raises TrialError for
    others.
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
    return records


def _shape(image: ImageRecord) -> tuple[int, ...]:
    return image.level, image.width, image.height, image.internal_format, image.format, image.type, image.compressed


def _pixels(record: TextureRecord) -> tuple[int, ...]:
    image = record.images[0]
    return image.internal_format, image.format, image.type, image.compressed


def _complete_levels(record: TextureRecord) -> int:
    """Levels from the first on, each half the one before."""
    sizes = {i.level: (i.width, i.height) for i in record.images}
    count = 0
    while sizes.get(count) == (max(record.width >> count, 1), max(record.height >> count, 1)) and (
        count == 0 or min(record.width, record.height) >> count
    ):
        count += 1
    return max(count, 1)


def _repeats(record: TextureRecord) -> bool:
    return all(
        int(record.parameters.get(name, [GL.REPEAT])[0]) == GL.REPEAT for name in ("TEXTURE_WRAP_S", "TEXTURE_WRAP_T")
    )
