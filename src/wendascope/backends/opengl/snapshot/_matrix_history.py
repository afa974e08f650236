"""What the driver remembers of how the modelview matrix came about.

Mesa keeps with each matrix of which kinds of operations it was made, and inverts it by that: one that was ever scaled
alike in all directions is inverted otherwise than one that was only turned, which shows in the last bit of normals
and generated coordinates. Loading the identity does not forget it, loading a matrix does. It cannot be asked for, but
the planes of generated coordinates are kept multiplied by the inverse, so that it can be seen.
"""

from __future__ import annotations

import struct

from wendascope.backends.opengl.calls.packed import CallBatch, CallStream, Out, merge_streams, stream_of
from wendascope.backends.opengl.snapshot._reader import Reader
from wendascope.registry import GL

IDENTITY = struct.pack("<16f", *(1.0 if i % 5 == 0 else 0.0 for i in range(16)))
_AXES = [struct.pack("<4f", *(1.0 if k == axis else 0.0 for k in range(4))) for axis in range(4)]
_PASTS: tuple[tuple[float, float, float] | None, ...] = (None, (2.0, 2.0, 2.0), (1.0, 2.0, 3.0))
"""By how much the matrix was scaled once: never, alike in all directions, otherwise."""
_TURNS = (33.0, 57.0, 71.0, 105.0, 140.0, 200.0, 250.0, 301.0)
_MOST_PUSHED = 30


def read_matrix_history(reader: Reader) -> CallStream:
    """Calls that leave the identity as modelview matrix with the past that it has in the target; none where that
    cannot be told. They are for frames that begin by loading the identity.
    """
    if reader.context.profile != "compatibility" or not reader.offers("glTexGenfv"):
        return merge_streams([])
    batch = reader.batch()
    plane, depth, mode = batch.out(16), batch.out(4), batch.out(4)
    batch.call("glActiveTexture", GL.TEXTURE0)
    batch.call("glGetTexGenfv", GL.S, GL.EYE_PLANE, plane)
    batch.call("glGetIntegerv", GL.MODELVIEW_STACK_DEPTH, depth)
    batch.call("glGetIntegerv", GL.MATRIX_MODE, mode)
    reader.run(batch)
    if depth.ints()[0] >= _MOST_PUSHED:
        return merge_streams([])
    held = plane.data
    batch = reader.batch()
    batch.call("glActiveTexture", GL.TEXTURE0)
    batch.call("glMatrixMode", GL.MODELVIEW)
    batch.call("glPushMatrix")
    here = _inverse(batch)
    tried = []
    for scale in _PASTS:
        _make(batch, held, scale)
        tried.append(_inverse(batch))
    batch.call("glLoadIdentity")
    batch.call("glTexGenfv", GL.S, GL.EYE_PLANE, held)
    batch.call("glPopMatrix")
    batch.call("glMatrixMode", mode.ints()[0])
    reader.run(batch)
    rows = [out.data for out in here]
    for scale, outs in zip(_PASTS, tried, strict=True):
        if [out.data for out in outs] == rows:
            setup = CallBatch()
            setup.call("glActiveTexture", GL.TEXTURE0)
            setup.call("glMatrixMode", GL.MODELVIEW)
            _make(setup, held, scale)
            setup.call("glMatrixMode", mode.ints()[0])
            setup.call("glActiveTexture", reader.value("active_texture"))
            return stream_of(setup)
    return merge_streams([])


def _make(batch: CallBatch, plane: bytes, scale: tuple[float, float, float] | None) -> None:
    """The identity with a past. Setting a plane makes the driver look at the matrix; under the identity it stays."""
    batch.call("glLoadMatrixf", IDENTITY)
    batch.call("glTexGenfv", GL.S, GL.EYE_PLANE, plane)
    if scale is not None:
        batch.call("glScalef", *scale)
    batch.call("glLoadIdentity")


def _inverse(batch: CallBatch) -> list[Out]:
    """The rows of the inverses of turned and moved identities, as the driver works them out. Many turns give the same
    whatever the past.
    """
    found = []
    for turn in _TURNS:
        batch.call("glLoadIdentity")
        batch.call("glRotatef", turn, 1.0, 2.0, 3.0)
        batch.call("glTranslatef", 1.0, 2.0, 3.0)
        for axis in _AXES:
            batch.call("glTexGenfv", GL.S, GL.EYE_PLANE, axis)
            out = batch.out(16)
            batch.call("glGetTexGenfv", GL.S, GL.EYE_PLANE, out)
            found.append(out)
    return found


_USES = (
    "glBegin", "glDraw", "glMultiDraw", "glCallList", "glLight", "glTexGen", "glClipPlane", "glRasterPos", "glEval",
    "glRect", "glArrayElement", "glMult", "glTranslate", "glRotate", "glScale", "glFrustum", "glOrtho",
    "glPushMatrix", "glPopMatrix", "glPopAttrib", "wendaContext",
)  # fmt: skip


def begins_with_identity(calls: CallStream, mode: int) -> bool:
    """Whether the first thing that a frame does with the modelview matrix is to load the identity."""
    for call in range(len(calls)):
        name = calls.command(call).name
        if name == "glMatrixMode":
            mode = int(calls.argument(call, "mode"))
        elif name == "glLoadIdentity" and mode == GL.MODELVIEW:
            return True
        elif name.startswith(("glLoadMatrix", "glLoadTranspose", "glLoadIdentity", "glMult", "glOrtho", "glFrustum")):
            if mode == GL.MODELVIEW:
                return False
        elif name.startswith(_USES):
            return False
    return False
