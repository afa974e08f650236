"""Textures with the same contents, or nearly the same, become one."""

from __future__ import annotations

from collections.abc import Iterator

import msgspec

from wendascope.backends.opengl.changes.frame_change import FrameChange, lowers
from wendascope.backends.opengl.changes.images import not_uploaded, plain_texture, replace_texture
from wendascope.backends.opengl.objects.records import ImageRecord, TextureRecord
from wendascope.errors import TrialError
from wendascope.frame.remedy import Remedy


@lowers("one-texture")
def one_texture(change: FrameChange, item: Remedy) -> None:
    """Let everything that names one of some textures name the first. Raises TrialError where they are not alike."""
    for first, other in _pairs(change, item):
        if (other.target, other.images) != (first.target, first.images):
            raise TrialError(f"textures {first.name} and {other.name} do not hold the same")
        replace_texture(change, other, first)


@lowers("near-texture")
def near_texture(change: FrameChange, item: Remedy) -> None:
    """The same of textures that differ in their texels only. Raises TrialError where they differ in size or format."""
    for first, other in _pairs(change, item):
        if _without_contents(other) != _without_contents(first):
            raise TrialError(f"textures {first.name} and {other.name} differ in size or format")
        replace_texture(change, other, first)


def _pairs(change: FrameChange, item: Remedy) -> Iterator[tuple[TextureRecord, TextureRecord]]:
    """The first with each of the others."""
    if len(item.textures) < 2:
        raise TrialError("it takes two textures to make one of them")
    first, *others = [plain_texture(change.frame, name) for name in item.textures]
    for name in item.textures:
        not_uploaded(change.frame, name)
    for other in others:
        if other.parameters != first.parameters:
            raise TrialError(f"textures {first.name} and {other.name} are filtered or repeated differently")
        yield first, other


def _without_contents(record: TextureRecord) -> tuple[int, list[ImageRecord]]:
    return record.target, [msgspec.structs.replace(image, contents=None) for image in record.images]
