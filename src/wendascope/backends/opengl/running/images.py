"""Images of one frame brought into the replay of another one: what a pass left in an earlier frame of a sequence."""

from __future__ import annotations

from collections.abc import Iterable

import msgspec

from wendascope.backends.opengl.calls.packed import CallBatch
from wendascope.backends.opengl.objects.records import RenderbufferRecord, TextureRecord
from wendascope.backends.opengl.running.left_behind import read_images
from wendascope.backends.opengl.running.session import ReplaySession
from wendascope.backends.opengl.tables.written import images_of
from wendascope.errors import ReplayError, TrialError
from wendascope.frame.blobs import BlobRef, BlobStore
from wendascope.frame.passes import Target


class StoredImages(msgspec.Struct):
    """Images with their contents, by the names that they have in the captured program."""

    textures: list[TextureRecord] = []
    renderbuffers: list[RenderbufferRecord] = []
    data: dict[str, bytes] = {}
    """Hash -> contents."""

    @property
    def names(self) -> set[tuple[str, int]]:
        """(kind, name) of each."""
        kinds = (("texture", self.textures), ("renderbuffer", self.renderbuffers))
        return {(kind, record.name) for kind, records in kinds for record in records}

    def only(self, names: set[tuple[str, int]]) -> StoredImages:
        """Those of some names."""
        textures = [t for t in self.textures if ("texture", t.name) in names]
        renderbuffers = [r for r in self.renderbuffers if ("renderbuffer", r.name) in names]
        held = [i.contents for t in textures for i in t.images] + [r.contents for r in renderbuffers]
        return StoredImages(textures, renderbuffers, {ref.hash: self.data[ref.hash] for ref in held if ref})

    def joined(self, other: StoredImages) -> StoredImages:
        """These and others, which take the place of those of their names."""
        textures = [t for t in self.textures if ("texture", t.name) not in other.names]
        renderbuffers = [r for r in self.renderbuffers if ("renderbuffer", r.name) not in other.names]
        return StoredImages(
            [*textures, *other.textures], [*renderbuffers, *other.renderbuffers], {**self.data, **other.data}
        )


def images_now(session: ReplaySession, targets: Iterable[Target]) -> StoredImages:
    """What the images of some targets hold after a run. Raises TrialError where one of them cannot be read."""
    blobs = BlobStore()
    read = read_images(session, images_of(targets), blobs)
    for texture in read.textures:
        if not texture.images or not all(image.contents for image in texture.images):
            raise TrialError(f"texture {texture.name} cannot be read")
    for renderbuffer in read.renderbuffers:
        if not renderbuffer.contents:
            raise TrialError(f"renderbuffer {renderbuffer.name} cannot be read")
    return StoredImages(read.textures, read.renderbuffers, blobs.data)


def put_images(session: ReplaySession, stored: StoredImages) -> CallBatch:
    """Calls that make the images of a session's frame hold what others held: for between two runs. Raises TrialError
    where there is none like them here.
    """
    objects = session.frame.objects
    there = {("texture", t.name): _shape(t) for t in objects.textures}
    there |= {("renderbuffer", r.name): _shape(r) for r in objects.renderbuffers}
    for kind, records in (("texture", stored.textures), ("renderbuffer", stored.renderbuffers)):
        for record in records:
            if there.get((kind, record.name)) != _shape(record):  # type: ignore[arg-type]
                raise TrialError(f"{kind} {record.name} has another size or format in the other frame")
    for digest, data in stored.data.items():
        # named by what they hold, so the frame's own contents stay what they are
        if session.frame.blobs.put(data) != BlobRef(digest, len(data)):
            raise TrialError("contents of an image do not fit their hash")
    try:
        return session.images_batch(stored.textures, stored.renderbuffers)
    except ReplayError as error:
        raise TrialError(str(error)) from error


def _shape(record: TextureRecord | RenderbufferRecord) -> object:
    if isinstance(record, RenderbufferRecord):
        return record.width, record.height, record.internal_format
    return record.target, [(i.target, i.level, i.width, i.height, i.depth, i.internal_format) for i in record.images]
