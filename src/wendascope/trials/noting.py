"""Replays a frame with shaders that note something in a storage buffer: what they read, or where they run."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import msgspec

from wendascope.backends.edit import Insertion
from wendascope.backends.opengl.calls.packed import CallBatch
from wendascope.backends.opengl.changes.frame_change import FrameChange
from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.backends.opengl.objects.records import ProgramRecord
from wendascope.backends.opengl.session import OpenGLSession
from wendascope.glsl.rewriting.es_version import in_es_310, raisable
from wendascope.measure.pictures import compare_pictures
from wendascope.registry import GL

BINDING = 7
"""Of the storage buffer that notes are written to."""


def cannot_note(session: OpenGLSession) -> str:
    """Why shaders of this context cannot note anything; empty where they can."""
    if not session.offers("glBindBufferRange") or not session.offers("GL_SHADER_STORAGE_BUFFER"):
        return "this context has no storage buffers, which notes are written to"
    return ""


def fragment_source(program: ProgramRecord) -> str:
    """Of the only fragment shader of a program; empty where it has none, or several."""
    sources = [s.source for s in program.shaders if s.type == GL.FRAGMENT_SHADER]
    return sources[0] if len(sources) == 1 else ""


def with_fragment(program: ProgramRecord, noting: Callable[[], str], es: bool) -> ProgramRecord:
    """The program with a fragment shader that notes in place of its only one. On OpenGL ES its other shaders are raised
    to the version that knows storage buffers, if all of them can be: that is looked at first. Raises TrialError.
    """
    for shader in program.shaders if es else ():
        raisable(shader.source)
    text = noting()
    sources = [
        text if s.type == GL.FRAGMENT_SHADER else in_es_310(s.source, fragment=False) if es else s.source
        for s in program.shaders
    ]
    shaders = [msgspec.structs.replace(s, source=own) for s, own in zip(program.shaders, sources, strict=True)]
    return msgspec.structs.replace(program, shaders=shaders)


def run_noting(
    session: OpenGLSession, frame: OpenGLFrame, change: FrameChange, notes: bytes, places: Sequence[tuple[int, int]],
    part: int,
) -> bytes | None:  # fmt: skip
    """Run a frame whose programs `change` has made to note, and return what they noted, as many bytes as `notes` holds,
    from which they start; None where the picture is another one than without. `places` are (step, first byte): from
    each of these steps on, notes go to `part` bytes from there. Raises TrialError, ReplayError.
    """
    buffer, _ = change.new.buffer(notes, GL.DYNAMIC_DRAW)
    for step, offset in places:
        batch = CallBatch()
        batch.call("glBindBufferRange", GL.SHADER_STORAGE_BUFFER, BINDING, buffer, offset, part)
        change.insertions.append(Insertion(int(frame.steps.begin[step]), batch))
    try:
        edit = change.edit()
        session.add(change.new.objects)
        session.run(session.prepare())
        before = session.final_picture()
        session.run(session.prepare(edit))
        session.drain()  # drivers were seen that give a buffer's contents without waiting for what shaders write
        batch = CallBatch(session.offers)
        out = batch.out(len(notes))
        batch.call("wendaReadBuffer", session.names.get("buffer", buffer), 0, len(notes), out)
        session.run_batch(batch)
        if compare_pictures(before, session.final_picture(), session.frame.alpha_matters)[0]:
            return None
        return bytes(out.data)
    finally:
        batch = CallBatch(session.offers)
        batch.call("glBindBufferBase", GL.SHADER_STORAGE_BUFFER, BINDING, 0)
        session.run_batch(batch)
