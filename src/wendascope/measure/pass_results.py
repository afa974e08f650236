"""What every pass of a frame comes to, as digests: equal ones in several frames are the same work done again."""

from __future__ import annotations

import hashlib

from wendascope.backends.opengl.running.edit import Edit
from wendascope.backends.opengl.running.left_behind import Contents, read_left_behind
from wendascope.backends.opengl.running.scramble import OTHER_WINDOW, WINDOW
from wendascope.backends.opengl.running.session import ReplaySession
from wendascope.backends.opengl.tables.written import images_of, written_objects
from wendascope.frame.blobs import BlobRef, BlobStore
from wendascope.frame.passes import Target
from wendascope.replay.jobs import remote
from wendascope.replay.progress import Job


class _Digests(BlobStore):
    """Keeps no contents, only digests that other processes would give as well."""

    def put(self, data: bytes) -> BlobRef:
        return BlobRef(hashlib.blake2b(data, digest_size=16).hexdigest(), len(data))


@remote
def pass_results(session: ReplaySession, job: Job) -> list[str]:
    """For every pass a digest of all images that it draws into, every byte of them, as they are after its last step;
    empty where they cannot all be read, or have no pixels. The frame is run once, and once more up to the end of each
    pass whose images are written again later.
    """
    passes = session.frame.passes
    found = [""] * len(passes)
    staying = [index for index in range(len(passes)) if _stays(session, index)]
    others = [index for index in range(len(passes)) if index not in set(staying)]
    for number, group in enumerate([staying, *([index] for index in others)]):
        job.progress("results of passes", number / (len(others) + 1))
        if not group:
            continue
        last = None if group is staying else int(session.frame.steps.call[int(passes.end[group[0]]) - 1]) + 1
        session.run(session.prepare(Edit(keep_until=last)))
        targets = [passes.targets[index] for index in group]
        contents = read_left_behind(session, images_of(targets), [], _Digests())
        for index, target in zip(group, targets, strict=True):
            found[index] = _digest(target, contents)
    return found


def _stays(session: ReplaySession, index: int) -> bool:
    """Whether nothing after a pass writes what it draws into."""
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
