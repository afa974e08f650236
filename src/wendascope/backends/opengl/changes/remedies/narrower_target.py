"""A render target with fewer bits a texel."""

from __future__ import annotations

import msgspec

from wendascope.backends.opengl.changes.frame_change import FrameChange, lowers
from wendascope.backends.opengl.changes.images import replace_each
from wendascope.backends.opengl.objects.formats import named_format
from wendascope.backends.opengl.objects.records import TextureRecord
from wendascope.backends.opengl.objects.texel_formats import internal_format
from wendascope.backends.opengl.objects.texel_sizes import format_name, texel_size
from wendascope.errors import TrialError
from wendascope.frame.formats import format_named
from wendascope.frame.remedy import Remedy


@lowers("narrower-target")
def narrower_target(change: FrameChange, item: Remedy) -> None:
    """Draw into textures of the format that `names` gives, in the place of others. Raises TrialError where the frame
    needs what one of them held before.
    """
    if len(item.names) != 1 or not item.textures:
        raise TrialError("a narrower target needs a format")
    wanted = format_named(item.names[0])
    internal = internal_format(wanted) if wanted is not None else None
    transfer = named_format(internal) if internal is not None else None
    if internal is None or transfer is None:
        raise TrialError(f"{item.names[0]} is no format that is known here")
    replace_each(change, item.textures, lambda _, record, name: _narrower(record, internal, transfer, name))


def _narrower(record: TextureRecord, internal: int, transfer: tuple[int, int], name: int) -> TextureRecord:
    old, new = texel_size(record.format), texel_size(internal)
    if old is None or new is None or new.bits >= old.bits:
        raise TrialError(f"{format_name(internal)} is not narrower than {format_name(record.format)}")
    if any(image.samples for image in record.images):
        raise TrialError(f"texture {record.name} has several samples, which is not changed here")
    images = [
        # what it holds before the frame is not brought over: where that is needed, the picture shows it
        msgspec.structs.replace(i, internal_format=internal, format=transfer[0], type=transfer[1], contents=None)
        for i in record.images
    ]
    return TextureRecord(name, record.target, images, dict(record.parameters), record.immutable_levels)
