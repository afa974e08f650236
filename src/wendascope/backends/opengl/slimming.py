"""Frames of OpenGL that hold and tell less: for files that are too large, or that must not leave the house."""

from __future__ import annotations

import dataclasses

import msgspec
import numpy as np

from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.backends.opengl.objects.records import ImageRecord, Objects, ProgramRecord
from wendascope.errors import TrialError
from wendascope.frame.blobs import BlobRef, BlobStore
from wendascope.glsl.rewriting.anonymous import anonymous

_BLOCK_BYTES = 16
"""What compressed contents are mixed by: one block of the formats of 16 bytes, two of those of 8."""


def without_unused(frame: OpenGLFrame) -> OpenGLFrame:
    """The frame without contents of objects that neither it nor the frame after uses."""
    idle = {
        (item.object_class, item.name)
        for item in frame.memory
        if not (item.used or item.read_next or item.written_next)
    }
    objects = msgspec.structs.replace(
        frame.objects,
        buffers=[
            msgspec.structs.replace(b, contents=None) if ("buffer", b.name) in idle else b
            for b in frame.objects.buffers
        ],
        textures=[
            msgspec.structs.replace(t, images=[msgspec.structs.replace(i, contents=None) for i in t.images])
            if ("texture", t.name) in idle
            else t
            for t in frame.objects.textures
        ],
    )
    return _with(frame, objects, frame.blobs)


def without_sources(frame: OpenGLFrame) -> OpenGLFrame:
    """The frame with anonymous shaders, which do the same. Raises TrialError where sources are among its calls."""
    for stream in (frame.calls, frame.following, frame.setup):
        if len(stream.calls_of("glShaderSource", "glCreateShaderProgramv")):
            raise TrialError("the frame compiles shaders: their sources are among its calls and cannot be replaced")
    dialect = frame.context.dialect

    def changed(program: ProgramRecord) -> ProgramRecord:
        shaders = [
            msgspec.structs.replace(s, source=anonymous(s.source, dialect) if s.source else "") for s in program.shaders
        ]
        return msgspec.structs.replace(program, shaders=shaders)

    objects = msgspec.structs.replace(
        frame.objects,
        programs=[changed(program) for program in frame.objects.programs],
        relinked=[changed(program) for program in frame.objects.relinked],
        shaders=[
            msgspec.structs.replace(s, source=anonymous(s.source, dialect) if s.compiled else "")
            for s in frame.objects.shaders
        ],
    )
    return _with(frame, objects, frame.blobs)


def without_texels(frame: OpenGLFrame, random: np.random.Generator) -> OpenGLFrame:
    """The frame with the texels of every image in an order of chance: as many of each value, and nothing to be seen.

    The window's contents and renderbuffers are mixed as well. What the calls of the frame upload stays.
    """
    blobs, mixed = _Mixed(frame.blobs), {}

    def mix(contents: BlobRef | None, unit: int) -> BlobRef | None:
        if contents is None:
            return None
        if (contents, unit) not in mixed:
            data = np.frombuffer(frame.blobs.get(contents), np.uint8)
            whole = len(data) // unit * unit
            parts = data[:whole].reshape(-1, unit)
            mixed[contents, unit] = blobs.put(random.permutation(parts).tobytes() + data[whole:].tobytes())
        return mixed[contents, unit]

    def image(record: ImageRecord) -> ImageRecord:
        texels = record.width * record.height * record.depth
        return msgspec.structs.replace(record, contents=mix(record.contents, _unit(record.contents, texels)))

    window = frame.default_framebuffer
    pixels = window.width * window.height
    parts = ("color", "depth_contents", "stencil_contents")
    contents = {name: getattr(window, name) for name in parts}
    window = msgspec.structs.replace(
        window, **{name: mix(found, _unit(found, pixels)) for name, found in contents.items()}
    )
    objects = msgspec.structs.replace(
        frame.objects,
        textures=[
            msgspec.structs.replace(t, images=[image(level) for level in t.images]) for t in frame.objects.textures
        ],
        renderbuffers=[
            msgspec.structs.replace(r, contents=mix(r.contents, _unit(r.contents, r.width * r.height)))
            for r in frame.objects.renderbuffers
        ],
    )
    made = _with(frame, objects, blobs)
    return dataclasses.replace(made, default_framebuffer=window, reference=None, reference_depth=None)


class _Mixed(BlobStore):
    """New contents beside those of a frame."""

    def __init__(self, before: BlobStore) -> None:
        super().__init__()
        self._before = before

    def get(self, ref: BlobRef) -> bytes:
        return self.data[ref.hash] if ref.hash in self.data else self._before.get(ref)


def _unit(contents: BlobRef | None, texels: int) -> int:
    """Bytes that stay together: a texel, or a block."""
    if contents is None or texels <= 0:
        return 1
    return contents.size // texels if contents.size % texels == 0 else _BLOCK_BYTES


def _with(frame: OpenGLFrame, objects: Objects, blobs: BlobStore) -> OpenGLFrame:
    return dataclasses.replace(frame, objects=objects, blobs=blobs, caveats=list(frame.caveats))
