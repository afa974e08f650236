"""What textures and renderbuffers hold now, as numbers."""

from __future__ import annotations

import numpy as np

from wendascope.backends.opengl.calls.gl_helpers import pack_tightly
from wendascope.backends.opengl.calls.packed import CallBatch
from wendascope.backends.opengl.objects.contents import image_of, image_values, renderbuffer_values
from wendascope.backends.opengl.objects.records import ImageRecord, TextureRecord
from wendascope.backends.opengl.running.left_behind import read_images
from wendascope.backends.opengl.running.session import ReplaySession
from wendascope.backends.opengl.tables.written import Written
from wendascope.errors import ReplayError
from wendascope.frame.blobs import BlobStore
from wendascope.frame.contents import ImageValues
from wendascope.registry import GL


def read_values(session: ReplaySession, kind: str, name: int, level: int, layer: int) -> ImageValues:
    """See `doors.Session.image_values`."""
    wanted = Written(textures={name}) if kind == "texture" else Written(renderbuffers={name})
    blobs = BlobStore()
    read = read_images(session, wanted, blobs)
    found: ImageValues | None = None
    if kind == "texture" and read.textures:
        texture = read.textures[0]
        image = image_of(texture, level, layer)
        if image is None:
            raise ReplayError(f"texture {name} has no level {level}")
        if image.compressed:
            found = _expanded(session, name, texture, image, layer)
        elif image.contents is not None:
            found = image_values(texture, image, blobs.get(image.contents), layer)
    elif read.renderbuffers:
        record = read.renderbuffers[0]
        found = renderbuffer_values(record, blobs.get(record.contents)) if record.contents else None
    if found is None:
        raise ReplayError(f"{kind} {name} cannot be read: its format or its samples have no pixels that are known here")
    return found


def _expanded(
    session: ReplaySession, name: int, texture: TextureRecord, image: ImageRecord, layer: int
) -> ImageValues | None:
    """A compressed image as eight bits a channel; None where this context cannot expand it."""
    if not session.offers("glGetTexImage"):
        return None
    batch = CallBatch(session.offers)
    depth = max(image.depth, 1)
    out = batch.out(image.width * image.height * depth * 4)
    pack_tightly(batch, session.offers)
    batch.call("glBindTexture", texture.target, session.names.get("texture", name))
    batch.call("glGetTexImage", image.target, image.level, GL.RGBA, GL.UNSIGNED_BYTE, out)
    session.run_batch(batch)
    values = np.frombuffer(out.data, np.uint8).reshape(depth, image.height, image.width, 4)
    slice_ = 0 if texture.target == GL.TEXTURE_CUBE_MAP else min(layer, depth - 1)
    return ImageValues(["red", "green", "blue", "alpha"], (values[slice_] / np.float32(255)).astype(np.float32))
