"""What every pass of a frame comes to, as digests: equal ones in several frames are the same work done again."""

from __future__ import annotations

import hashlib

from wendascope.frame.blobs import BlobRef, BlobStore
from wendascope.opengl.written import Written
from wendascope.replay.edit import Edit
from wendascope.replay.jobs import remote
from wendascope.replay.left_behind import read_left_behind
from wendascope.replay.progress import Job
from wendascope.replay.session import ReplaySession


class _Digests(BlobStore):
    """Keeps no contents, only digests that other processes would give as well."""

    def put(self, data: bytes) -> BlobRef:
        return BlobRef(hashlib.blake2b(data, digest_size=16).hexdigest(), len(data))


@remote
def pass_results(session: ReplaySession, job: Job) -> list[str]:
    """For every pass a digest of all images that it draws into, every byte of them, as they are after its last step.
    The frame is run once for each pass, up to its end.
    """
    frame, passes = session.frame, session.frame.passes
    found = []
    for index, target in enumerate(passes.targets):
        job.progress("results of passes", index / len(passes))
        last = int(passes.end[index]) - 1
        session.run(session.prepare(Edit(keep_until=int(frame.steps.call[last]) + 1)))
        images = Written()
        for attachment in target.attachments:
            names = images.textures if attachment.kind == "texture" else images.renderbuffers
            names.add(attachment.name)
        whole = hashlib.blake2b(digest_size=16)
        for (store, part), digest in sorted(read_left_behind(session, images, [], _Digests()).items()):
            drawn_into = store.kind in ("texture", "renderbuffer") or not target.framebuffer
            if drawn_into:
                whole.update(f"{store} {part} {len(digest)} ".encode() + digest)
        found.append(whole.hexdigest())
    return found
