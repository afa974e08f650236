"""Runs a frame with shaders that note something in a storage buffer: what they read, or where they run."""

from __future__ import annotations

from collections.abc import Sequence

import msgspec
import numpy as np

from wendascope.backends.doors import NOTES
from wendascope.backends.edit import Insertion
from wendascope.backends.opengl.calls.packed import CallBatch
from wendascope.backends.opengl.changes.frame_change import FrameChange
from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.backends.opengl.objects.compiled import compiled_program
from wendascope.backends.opengl.objects.records import ProgramRecord
from wendascope.backends.opengl.running.session import ReplaySession
from wendascope.errors import TrialError
from wendascope.glsl.rewriting.es_version import in_es_310, raisable
from wendascope.registry import GL


def cannot_note(session: ReplaySession) -> str:
    """See `doors.Session.cannot_note`."""
    if not session.offers("glBindBufferRange") or not session.offers("GL_SHADER_STORAGE_BUFFER"):
        return "this context has no storage buffers, which notes are written to"
    return ""


def notable(frame: OpenGLFrame) -> dict[int, str]:
    """See `doors.Session.notable`. On OpenGL ES the other shaders are raised to the version that knows storage buffers,
    if all of them can be.
    """
    sources = {}
    for name in np.unique(frame.steps.program).tolist():
        record = frame.objects.program(name)
        if record is None or record.storage_blocks or record.binary:
            continue
        program = compiled_program(record, frame.context.dialect)
        fragments = [s.source for s in program.shaders if s.type == GL.FRAGMENT_SHADER]
        try:
            for shader in program.shaders if frame.context.es else ():
                raisable(shader.source)
        except TrialError:
            continue
        if len(fragments) == 1 and fragments[0]:
            sources[name] = fragments[0]
    return sources


def _with_fragment(program: ProgramRecord, text: str, es: bool) -> ProgramRecord:
    """The program with another fragment shader in place of its only one."""
    sources = [
        text if s.type == GL.FRAGMENT_SHADER else in_es_310(s.source, fragment=False) if es else s.source
        for s in program.shaders
    ]
    shaders = [msgspec.structs.replace(s, source=own) for s, own in zip(program.shaders, sources, strict=True)]
    return msgspec.structs.replace(program, shaders=shaders)


def run_noting(
    session: ReplaySession, sources: dict[int, str], notes: bytes, places: Sequence[tuple[int, int]], part: int
) -> bytes | None:
    """See `doors.Session.run_noting`."""
    change = FrameChange(session.frame)
    for name, text in sources.items():
        change.replace_program(name, _with_fragment(change.program(name), text, session.frame.context.es))
    return note(session, change, notes, places, part)


def note(
    session: ReplaySession, change: FrameChange, notes: bytes, places: Sequence[tuple[int, int]], part: int
) -> bytes | None:
    """What programs that are made to note come to."""
    frame = session.frame
    buffer, _ = change.new.buffer(notes, GL.DYNAMIC_DRAW)
    for step, offset in places:
        batch = CallBatch()
        batch.call("glBindBufferRange", GL.SHADER_STORAGE_BUFFER, NOTES, buffer, offset, part)
        change.insertions.append(Insertion(int(frame.steps.begin[step]), batch))
    try:
        edit = change.edit()
        session.add(change.brought_in)
        session.run(session.prepare())
        before = session.final_picture()
        session.run(session.prepare(edit))
        session.drain()  # drivers were seen that give a buffer's contents without waiting for what shaders write
        batch = CallBatch(session.offers)
        out = batch.out(len(notes))
        batch.call("wendaReadBuffer", session.names.get("buffer", buffer), 0, len(notes), out)
        session.run_batch(batch)
        channels = 4 if frame.alpha_matters else 3
        after = session.final_picture()
        same = np.array_equal(before.pixels[..., :channels], after.pixels[..., :channels])
        return bytes(out.data) if same else None
    finally:
        batch = CallBatch(session.offers)
        batch.call("glBindBufferBase", GL.SHADER_STORAGE_BUFFER, NOTES, 0)
        session.run_batch(batch)
