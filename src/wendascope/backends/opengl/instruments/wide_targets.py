"""Render targets whose texels are larger than four channels of eight bits."""

from __future__ import annotations

import numpy as np

from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.backends.opengl.objects.contents import image_values, renderbuffer_values
from wendascope.backends.opengl.objects.records import RenderbufferRecord, TextureRecord
from wendascope.backends.opengl.objects.texel_sizes import format_name, texel_size
from wendascope.backends.opengl.running.left_behind import read_images
from wendascope.backends.opengl.running.session import ReplaySession
from wendascope.backends.opengl.tables.written import Written, images_of
from wendascope.frame.blobs import BlobStore
from wendascope.frame.contents import ImageValues

_NARROW = 32
"""Bits of a texel of four channels with eight each."""


def wide_targets(frame: OpenGLFrame) -> Written:
    """Those with one sample."""
    written = images_of(frame.passes.targets)
    return Written(
        textures={t.name for t in frame.objects.textures if t.name in written.textures and _is_wide(t)},
        renderbuffers={r.name for r in frame.objects.renderbuffers if r.name in written.renderbuffers and _is_wide(r)},
    )


def wide_values(session: ReplaySession) -> list[tuple[str, int, ImageValues]]:
    """See `doors.Session.wide_targets`."""
    blobs = BlobStore()
    read = read_images(session, wide_targets(session.frame), blobs)
    values: list[tuple[str, int, ImageValues]] = []
    for texture in read.textures:
        image = next((i for i in texture.images if i.level == 0 and i.contents is not None), None)
        if image is not None and image.contents is not None:
            data = blobs.get(image.contents)
            layers = [image_values(texture, image, data, layer) for layer in range(max(image.depth, 1))]
            known = [layer for layer in layers if layer is not None]
            if known:
                whole = np.stack([layer.values for layer in known])
                values.append(("texture", texture.name, ImageValues(known[0].channels, whole)))
    for record in read.renderbuffers:
        held = renderbuffer_values(record, blobs.get(record.contents)) if record.contents else None
        if held is not None:
            values.append(("renderbuffer", record.name, held))
    return values


def _is_wide(record: TextureRecord | RenderbufferRecord) -> bool:
    if isinstance(record, RenderbufferRecord):
        internal, samples = record.internal_format, record.samples
    else:
        internal, samples = record.format, record.images[0].samples if record.images else 1
    name, size = format_name(internal), texel_size(internal)
    return not samples and "DEPTH" not in name and "I" not in name and size is not None and size.bits > _NARROW
