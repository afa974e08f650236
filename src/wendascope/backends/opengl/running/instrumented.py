"""A captured frame made ready for counting: every target can have a stencil buffer, every program gives its positions.

The picture must not change by it: depth keeps its precision, and a shader that depth is sampled by sees the same
values. Where no format with stencil has the same depth, the nearest is taken; whoever counts compares the picture.
"""

from __future__ import annotations

import copy
from collections.abc import Callable
from dataclasses import dataclass, fields
from typing import TypeVar

import msgspec
import numpy as np

from wendascope.backends.opengl.calls.packed import BLOB, CallStream
from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.backends.opengl.objects.records import ImageRecord, ProgramRecord, RenderbufferRecord, TextureRecord
from wendascope.frame.blobs import BlobRef, BlobStore
from wendascope.registry import GL, tables
from wendascope.registry.numbers import HEADER_WORDS

_WITH_STENCIL = {
    GL.DEPTH_COMPONENT: GL.DEPTH24_STENCIL8,
    GL.DEPTH_COMPONENT16: GL.DEPTH24_STENCIL8,
    GL.DEPTH_COMPONENT24: GL.DEPTH24_STENCIL8,
    GL.DEPTH_COMPONENT32: GL.DEPTH24_STENCIL8,
    GL.DEPTH_COMPONENT32F: GL.DEPTH32F_STENCIL8,
}
_Depth = TypeVar("_Depth", ImageRecord, RenderbufferRecord)
POSITION = "gl_Position"
_LAST_STAGES = (GL.GEOMETRY_SHADER, GL.TESS_EVALUATION_SHADER, GL.VERTEX_SHADER)
"""Stages that can be the last before rasterisation, the later ones first."""


@dataclass
class InstrumentedFrame(OpenGLFrame):
    """A frame made ready for counting."""

    window_stencil: int = 0
    """Stencil bits that the program's own window had."""


def instrumented(
    frame: OpenGLFrame, change_program: Callable[[ProgramRecord], ProgramRecord] = lambda program: program
) -> InstrumentedFrame:
    """A copy of the frame whose depth images have stencil beside them and whose programs feed back gl_Position.

    `change_program` may change programs further.
    """
    made = InstrumentedFrame(
        **{f.name: getattr(frame, f.name) for f in fields(frame)}, window_stencil=frame.default_framebuffer.stencil
    )
    # steps and passes stay what they are
    made.history, made.steps, made.passes = frame.history, frame.steps, frame.passes
    made.blobs = BlobStore()
    made.blobs.data = dict(frame.blobs.data)
    objects = copy.copy(frame.objects)
    objects.textures = [_texture(made.blobs, t) for t in objects.textures]
    objects.renderbuffers = [_with_stencil(made.blobs, r) for r in objects.renderbuffers]
    objects.programs, objects.relinked = (
        [change_program(_program(p)) for p in group] for group in (objects.programs, objects.relinked)
    )
    made.objects = objects
    window = frame.default_framebuffer
    if not window.stencil:
        # 24 bits of depth are what comes with stencil; a window of 32 loses the last eight
        contents = (
            made.blobs.put(bytes(window.width * window.height))
            if window.depth_contents and window.depth >= 24
            else None
        )
        made.default_framebuffer = msgspec.structs.replace(
            window, depth=min(window.depth, 24), stencil=8, stencil_contents=contents
        )
    made.calls = _definitions(frame.calls)
    return made


def gives_positions(program: ProgramRecord) -> bool:
    """Whether an instrumented program feeds back its positions, and nothing else."""
    return program.feedback_varyings == [POSITION]


def _program(program: ProgramRecord) -> ProgramRecord:
    last = [s for stage in _LAST_STAGES for s in program.shaders if s.type == stage][:1]
    if program.feedback_varyings or program.binary or not last or POSITION not in last[0].source:
        return program
    return msgspec.structs.replace(program, feedback_varyings=[POSITION], feedback_mode=GL.INTERLEAVED_ATTRIBS)


def _texture(blobs: BlobStore, texture: TextureRecord) -> TextureRecord:
    if not any(i.internal_format in _WITH_STENCIL for i in texture.images):
        return texture
    return msgspec.structs.replace(texture, images=[_with_stencil(blobs, i) for i in texture.images])


def _with_stencil(blobs: BlobStore, record: _Depth) -> _Depth:
    """The record of a depth image as one with stencil; any other as it is."""
    wanted = _WITH_STENCIL.get(record.internal_format)
    if wanted is None:
        return record
    contents, format_, type_ = _contents(blobs, record.contents, record.format, record.type, wanted)
    return msgspec.structs.replace(record, internal_format=wanted, contents=contents, format=format_, type=type_)


def _contents(
    blobs: BlobStore, ref: BlobRef | None, format_: int, type_: int, wanted: int
) -> tuple[BlobRef | None, int, int]:
    """Depth put together with a stencil of zero: (contents, format, type)."""
    floating = wanted == GL.DEPTH32F_STENCIL8
    packed = GL.FLOAT_32_UNSIGNED_INT_24_8_REV if floating else GL.UNSIGNED_INT_24_8
    if ref is None or format_ != GL.DEPTH_COMPONENT:
        return (None if ref is None else ref), GL.DEPTH_STENCIL, packed
    data = blobs.get(ref)
    kinds = {GL.FLOAT: np.float32, GL.UNSIGNED_SHORT: np.uint16, GL.UNSIGNED_INT: np.uint32}
    values = np.frombuffer(data, kinds[type_])
    if floating:
        both = np.zeros((len(values), 2), np.uint32)
        both[:, 0] = values.astype(np.float32).view(np.uint32)
        return blobs.put(both.tobytes()), GL.DEPTH_STENCIL, packed
    if type_ == GL.FLOAT:
        whole = np.round(values.astype(np.float64) * 0xFFFFFF).astype(np.uint32) << np.uint32(8)
    elif type_ == GL.UNSIGNED_SHORT:
        whole = (values.astype(np.uint32) * np.uint32(0x10001)) & np.uint32(0xFFFFFF00)
    else:
        whole = values & np.uint32(0xFFFFFF00)
    return blobs.put(whole.astype(np.uint32).tobytes()), GL.DEPTH_STENCIL, packed


_DEFINES = (
    "glTexImage2D",
    "glTexImage3D",
    "glTexStorage2D",
    "glTexStorage3D",
    "glTexImage2DMultisample",
    "glTexStorage2DMultisample",
    "glTextureStorage2D",
    "glTextureStorage3D",
    "glTextureStorage2DMultisample",
    "glRenderbufferStorage",
    "glRenderbufferStorageMultisample",
    "glNamedRenderbufferStorage",
    "glNamedRenderbufferStorageMultisample",
)


def _definitions(calls: CallStream) -> CallStream:
    """Calls in which depth images that the frame itself defines, without contents, get stencil too."""
    words = calls.words
    for canonical in _DEFINES:
        for command in tables().commands_like(canonical):
            rows = calls.calls_of(command.name)
            if len(rows) == 0:
                continue
            by_name = {p.name: p for p in command.parameters}
            at = calls.offsets[rows] + HEADER_WORDS
            formats = words[at + by_name["internalformat"].slot]
            for old, new in _WITH_STENCIL.items():
                hit = formats == np.uint64(old)
                if "pixels" in by_name:
                    hit &= words[at + by_name["pixels"].slot] >> np.uint64(60) != np.uint64(BLOB)
                if not hit.any():
                    continue
                if words is calls.words:
                    words = words.copy()
                words[at[hit] + by_name["internalformat"].slot] = new
                if "pixels" in by_name:
                    words[at[hit] + by_name["format"].slot] = GL.DEPTH_STENCIL
                    words[at[hit] + by_name["type"].slot] = (
                        GL.FLOAT_32_UNSIGNED_INT_24_8_REV if new == GL.DEPTH32F_STENCIL8 else GL.UNSIGNED_INT_24_8
                    )
    return calls if words is calls.words else CallStream(words, calls.arena, calls.offsets)
