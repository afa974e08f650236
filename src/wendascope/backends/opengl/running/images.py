"""Images of one frame brought into the replay of another one: what a pass left in an earlier frame of a sequence."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TypeVar

import msgspec

from wendascope.backends.contents import KeptImage, StoredImages
from wendascope.backends.opengl.calls.packed import CallBatch
from wendascope.backends.opengl.objects.records import RenderbufferRecord, TextureRecord
from wendascope.backends.opengl.running.left_behind import read_images
from wendascope.backends.opengl.running.session import ReplaySession
from wendascope.backends.opengl.tables.written import images_of
from wendascope.errors import ReplayError, TrialError
from wendascope.frame.blobs import BlobRef, BlobStore
from wendascope.frame.passes import Target
from wendascope.registry import GL

R = TypeVar("R", TextureRecord, RenderbufferRecord)
_DEPTHS = (GL.DEPTH_COMPONENT, GL.DEPTH_STENCIL, GL.STENCIL_INDEX)


def images_now(session: ReplaySession, targets: Iterable[Target]) -> StoredImages:
    """What the images of some targets hold after a run. Raises TrialError where one of them cannot be read."""
    blobs = BlobStore()
    read = read_images(session, images_of(targets), blobs)
    stored = []
    for texture in read.textures:
        if not texture.images or not all(image.contents for image in texture.images):
            raise TrialError(f"texture {texture.name} cannot be read")
        first, *others = texture.images
        size = (first.width, first.height) if not others and first.depth <= 1 else None
        held = [image.contents.hash for image in texture.images if image.contents]
        colour = first.format not in _DEPTHS
        stored.append(KeptImage("texture", texture.name, msgspec.msgpack.encode(texture), held, colour, size))
    for renderbuffer in read.renderbuffers:
        if not renderbuffer.contents:
            raise TrialError(f"renderbuffer {renderbuffer.name} cannot be read")
        record, held = msgspec.msgpack.encode(renderbuffer), [renderbuffer.contents.hash]
        stored.append(KeptImage("renderbuffer", renderbuffer.name, record, held, renderbuffer.format not in _DEPTHS))
    return StoredImages(stored, blobs.data)


def put_images(session: ReplaySession, stored: StoredImages) -> CallBatch:
    """Calls that make the images of a session's frame hold what others held: for between two runs. Raises TrialError
    where there is none like them here.
    """
    objects = session.frame.objects
    there = {("texture", t.name): _shape(t) for t in objects.textures}
    there |= {("renderbuffer", r.name): _shape(r) for r in objects.renderbuffers}
    textures = [_record(image, TextureRecord) for image in stored.images if image.kind == "texture"]
    renderbuffers = [_record(image, RenderbufferRecord) for image in stored.images if image.kind == "renderbuffer"]
    for kind, records in (("texture", textures), ("renderbuffer", renderbuffers)):
        for record in records:
            if there.get((kind, record.name)) != _shape(record):
                raise TrialError(f"{kind} {record.name} has another size or format in the other frame")
    for digest, data in stored.data.items():
        # named by what they hold, so the frame's own contents stay what they are
        if session.frame.blobs.put(data) != BlobRef(digest, len(data)):
            raise TrialError("contents of an image do not fit their hash")
    try:
        return session.images_batch(textures, renderbuffers)
    except ReplayError as error:
        raise TrialError(str(error)) from error


def _record(image: KeptImage, kind: type[R]) -> R:
    try:
        return msgspec.msgpack.decode(image.record, type=kind)
    except msgspec.MsgspecError as error:
        raise TrialError(f"{image.kind} {image.name} is described in a way that is not known here") from error


def _shape(record: TextureRecord | RenderbufferRecord) -> object:
    if isinstance(record, RenderbufferRecord):
        return record.width, record.height, record.internal_format
    return record.target, [(i.target, i.level, i.width, i.height, i.depth, i.internal_format) for i in record.images]
