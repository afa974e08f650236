"""What every pass of a frame comes to, as digests: equal ones in several frames are the same work done again."""

from __future__ import annotations

import hashlib

from wendascope.frame.blobs import BlobRef, BlobStore
from wendascope.opengl.written import Written
from wendascope.replay.edit import Edit
from wendascope.replay.jobs import remote
from wendascope.replay.left_behind import read_left_behind
from wendascope.replay.progress import Job
from wendascope.replay.scramble import OTHER_WINDOW, WINDOW
from wendascope.replay.session import ReplaySession


class _Digests(BlobStore):
    """Keeps no contents, only digests that other processes would give as well."""

    def put(self, data: bytes) -> BlobRef:
        return BlobRef(hashlib.blake2b(data, digest_size=16).hexdigest(), len(data))


@remote
def pass_results(session: ReplaySession, job: Job) -> list[str]:
    """For every pass a digest of all images that it draws into, every byte of them, as they are after its last step;
    empty where they cannot all be read, or have no pixels. The frame is run once for each pass, up to its end.
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
        kinds = ("texture", "renderbuffer") if target.framebuffer else (*WINDOW, OTHER_WINDOW)
        read = set()
        for (store, part), digest in sorted(read_left_behind(session, images, [], _Digests()).items()):
            if store.kind in kinds:
                read.add((store.kind, store.name))
                whole.update(f"{store} {part} {len(digest)} ".encode() + digest)
        wanted = {(a.kind, a.name) for a in target.attachments}
        complete = target.width * target.height > 0 and read and wanted <= read
        found.append(whole.hexdigest() if complete else "")
    return found
