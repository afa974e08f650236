"""What a run of a frame leaves behind: the contents of everything that it writes, by the code that takes snapshots."""

from __future__ import annotations

import hashlib
import re

import numpy as np

from wendascope.backends.contents import OTHER_WINDOW, READ_PIXELS, WINDOW, Contents, Store
from wendascope.backends.opengl.calls.journal import Journal
from wendascope.backends.opengl.calls.kept import Kept
from wendascope.backends.opengl.calls.packed import CallBatch, merge_streams
from wendascope.backends.opengl.objects.records import Objects
from wendascope.backends.opengl.running.session import PreparedCalls, ReplaySession
from wendascope.backends.opengl.snapshot import Reader, read_contents, read_query_results
from wendascope.backends.opengl.tables.written import Written
from wendascope.frame.blobs import BlobRef, BlobStore
from wendascope.frame.frame import Picture
from wendascope.registry import GL


def read_left_behind(
    session: ReplaySession, written: Written, queries: list[int], blobs: BlobStore | None = None
) -> Contents:
    """Contents after a run. The state of the context is other afterwards: the next run sets its own. `blobs` is where
    contents go, of which the hashes are told; without one, quick ones that hold in this process alone.
    """
    reader, captured = _reading(session, written, blobs or _Digests())
    found: Contents = {}

    def put(kind: str, name: int, part: str, ref: BlobRef | None) -> None:
        if ref is not None:
            found[Store(kind, name), part] = ref.hash.encode()

    objects, window = read_contents(reader)
    for texture in objects.textures:
        for image in texture.images:
            put("texture", captured["texture"][texture.name], f"{image.target:x} level {image.level}", image.contents)
    for buffer in objects.buffers:
        put("buffer", captured["buffer"][buffer.name], "", buffer.contents)
    for renderbuffer in objects.renderbuffers:
        put("renderbuffer", captured["renderbuffer"][renderbuffer.name], "", renderbuffer.contents)
    for kind, ref in zip(WINDOW, (window.color, window.depth_contents, window.stencil_contents), strict=True):
        put(kind, 0, "", ref)
    if not session.offers("glGetTexLevelParameteriv"):
        found |= _attached_colours(session)
    for number, picture in session.read_other_windows().items():
        found[Store(OTHER_WINDOW, number), f"{picture.width} x {picture.height}"] = picture.pixels.tobytes()
    here_queries = {session.names.get("query", q): q for q in queries}
    for query, result in read_query_results(reader, list(here_queries)).items():
        found[Store("query", here_queries[query]), ""] = result.to_bytes(8, "little")
    return found


def read_back(prepared: PreparedCalls) -> Contents:
    """What the last run of a frame read into the program's memory."""
    digests = _Digests()
    return {
        (Store(READ_PIXELS, call), ""): digests.put(prepared.out[start : start + size].tobytes()).hash.encode()
        for call, (start, size) in prepared.readbacks.items()
        if call >= 0
    }


def read_images(session: ReplaySession, written: Written, blobs: BlobStore) -> Objects:
    """The textures and renderbuffers of `written` as they are now, under their captured names; contents go to `blobs`.
    The state of the context is other afterwards.
    """
    reader, captured = _reading(session, written, blobs)
    objects, _ = read_contents(reader)
    for kind, records in (("texture", objects.textures), ("renderbuffer", objects.renderbuffers)):
        for record in records:
            record.name = captured[kind][record.name]
    return Objects(textures=objects.textures, renderbuffers=objects.renderbuffers)


def _reading(session: ReplaySession, written: Written, blobs: BlobStore) -> tuple[Reader, dict[str, dict[int, int]]]:
    """What reads some objects, and kind -> name here -> captured name."""
    frame = session.frame
    of_kind = {"texture": written.textures, "buffer": written.buffers, "renderbuffer": written.renderbuffers}
    captured = {kind: {session.names.get(kind, name): name for name in sorted(some)} for kind, some in of_kind.items()}
    here = {kind: list(some) for kind, some in captured.items()}
    here["framebuffer"] = [session.names.get("framebuffer", f.name) for f in frame.objects.framebuffers]
    default = frame.default_framebuffer
    reader = Reader(
        _Ours(session),
        frame.context,
        here,
        Journal(merge_streams([]), 0),
        Kept(),
        (default.width, default.height),
        invented=False,
    )
    reader.state = {"scissor_test_enabled": {}}
    reader.blobs = blobs
    return reader, captured


def _attached_colours(session: ReplaySession) -> Contents:
    """Where a context tells nothing of its textures (OpenGL ES before 3.1): colours of all that is drawn into,
    through its framebuffers.
    """
    found: Contents = {}
    for target in session.frame.passes.targets:
        colours = [a for a in target.attachments if a.point not in (GL.DEPTH_ATTACHMENT, GL.STENCIL_ATTACHMENT)]
        if target.framebuffer and colours and target.width and target.height:
            picture = session.read_target(target)
            assert isinstance(picture, Picture)
            first = min(colours, key=lambda a: a.point)
            found[Store(first.kind, first.name), "through its framebuffer"] = hashlib.sha256(
                picture.pixels.tobytes()
            ).digest()
    return found


class _Digests(BlobStore):
    """Keeps no contents, only what tells them apart."""

    def put(self, data: bytes) -> BlobRef:
        return BlobRef(f"{hash(data):x}", len(data))  # of 64 bits, and much faster than those that resist attacks


class _Ours:
    """A session as a thing that runs batches in its own names."""

    def __init__(self, session: ReplaySession) -> None:
        self.run = session.run_batch


_KEPT = (
    ("READ_FRAMEBUFFER_BINDING", "FRAMEBUFFER_BINDING"),
    ("PIXEL_PACK_BUFFER_BINDING",),
    ("PACK_SWAP_BYTES",),
    ("PACK_ROW_LENGTH",),
    ("PACK_SKIP_ROWS",),
    ("PACK_SKIP_PIXELS",),
    ("PACK_ALIGNMENT",),
)


def picture_in_between(session: ReplaySession) -> np.ndarray:
    """The finished picture, read while more calls are to follow: state is put back. Shape (h, w, 4)."""
    offers = session.offers
    names = [
        next(n for n in group if offers.value(getattr(GL, n)))
        for group in _KEPT
        if any(offers.value(getattr(GL, n)) for n in group)
    ]
    ask = CallBatch(offers)
    outs = {name: ask.out(4) for name in names}
    for name, out in outs.items():
        ask.call("glGetIntegerv", getattr(GL, name), out)
    session.run_batch(ask)
    bound = next(outs[n].ints()[0] for n in names if "FRAMEBUFFER" in n)
    framebuffer = session.frame.reference_framebuffer
    here = session.names.get("framebuffer", framebuffer) if framebuffer else 0
    ask = CallBatch(offers)
    buffer = ask.out(4)
    ask.call("glBindFramebuffer", offers.read_target, here)
    if offers.value(GL.READ_BUFFER):
        ask.call("glGetIntegerv", GL.READ_BUFFER, buffer)
    session.run_batch(ask)
    picture = session.final_picture().pixels
    back = CallBatch(offers)
    back.call("glBindFramebuffer", offers.read_target, here)
    if buffer.ints()[0]:
        back.call("glReadBuffer", buffer.ints()[0])
    back.call("glBindFramebuffer", offers.read_target, bound)
    for name, out in outs.items():
        if name == "PIXEL_PACK_BUFFER_BINDING":
            back.call("glBindBuffer", GL.PIXEL_PACK_BUFFER, out.ints()[0])
        elif re.match("PACK", name):
            back.call("glPixelStorei", getattr(GL, name), out.ints()[0])
    session.run_batch(back)
    return picture
