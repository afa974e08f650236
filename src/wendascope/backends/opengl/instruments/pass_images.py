"""What the images hold that passes draw into, as digests."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence

from wendascope.backends.contents import OTHER_WINDOW, WINDOW, Contents
from wendascope.backends.opengl.running.left_behind import read_left_behind
from wendascope.backends.opengl.running.session import ReplaySession
from wendascope.backends.opengl.tables.written import images_of, written_objects
from wendascope.frame.blobs import BlobRef, BlobStore
from wendascope.frame.passes import Target


class _Digests(BlobStore):
    """Keeps no contents, only digests that other processes would give as well."""

    def put(self, data: bytes) -> BlobRef:
        return BlobRef(hashlib.blake2b(data, digest_size=16).hexdigest(), len(data))


def digests(session: ReplaySession, targets: Sequence[Target]) -> list[str]:
    """See `doors.Session.digests`."""
    contents = read_left_behind(session, images_of(list(targets)), [], _Digests())
    return [_digest(target, contents) for target in targets]


def stays(session: ReplaySession, index: int) -> bool:
    """See `doors.Session.stays`."""
    frame = session.frame
    target, end = frame.passes.targets[index], int(frame.passes.end[index])
    if not target.framebuffer:
        return all(later.framebuffer for later in frame.passes.targets[index + 1 :])
    later = written_objects(frame, int(frame.steps.call[end - 1]) + 1)
    mine = images_of([target])
    views = {t.name for t in frame.objects.textures if t.view_of}
    return not (
        mine.textures & (later.textures | later.redefined_textures | views) or mine.renderbuffers & later.renderbuffers
    )


def _digest(target: Target, contents: Contents) -> str:
    """Of what one target holds."""
    wanted = {(a.kind, a.name) for a in target.attachments}
    read = set()
    whole = hashlib.blake2b(digest_size=16)
    for (store, part), digest in sorted(contents.items()):
        if (store.kind, store.name) in wanted or (not target.framebuffer and store.kind in (*WINDOW, OTHER_WINDOW)):
            read.add((store.kind, store.name))
            whole.update(f"{store} {part} {len(digest)} ".encode() + digest)
    complete = target.width * target.height > 0 and read and wanted <= read
    return whole.hexdigest() if complete else ""
