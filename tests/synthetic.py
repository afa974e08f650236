"""Frames made of records and packed calls alone, for what needs no GPU: tests of the analysis, and its benchmark."""

from __future__ import annotations

from typing import Any

import numpy as np

from wendascope.backends.opengl.calls.packed import CallBatch, Raw, stream_of
from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.backends.opengl.objects.records import (
    AttributeRecord,
    BufferRecord,
    DefaultFramebuffer,
    ImageRecord,
    Objects,
    ProgramRecord,
    ShaderRecord,
    TextureRecord,
    UniformRecord,
    VertexArrayRecord,
)
from wendascope.frame.blobs import BlobStore
from wendascope.frame.context import ContextInfo
from wendascope.frame.frame import Metadata
from wendascope.registry import GL

VERTEX = """#version 330 core
layout(location = 0) in vec3 position;
uniform mat4 model;
void main() { gl_Position = model * vec4(position, 1.0); }
"""
FRAGMENT = """#version 330 core
uniform vec4 tint;
uniform sampler2D surface;
out vec4 colour;
void main() { colour = texture(surface, vec2(0.5)) * tint; }
"""
MODEL, TINT, SURFACE = 0, 1, 2
"""Locations of the uniforms of every program."""


def objects(blobs: BlobStore, programs: int = 1, meshes: int = 1, textures: int = 1, side: int = 8) -> Objects:
    """Programs 1, 2, ...; vertex arrays 1, 2, ... with buffers of their own; textures 1, 2, ... of `side` x `side`."""
    shaders = [ShaderRecord(GL.VERTEX_SHADER, VERTEX), ShaderRecord(GL.FRAGMENT_SHADER, FRAGMENT)]
    uniforms = [
        UniformRecord("model", GL.FLOAT_MAT4, 1, [MODEL], bytes(64)),
        UniformRecord("tint", GL.FLOAT_VEC4, 1, [TINT], bytes(16)),
        UniformRecord("surface", GL.SAMPLER_2D, 1, [SURFACE], bytes(4)),
    ]
    found = Objects()
    for name in range(1, programs + 1):
        found.programs.append(ProgramRecord(name, shaders, True, {"position": 0}, uniforms=uniforms))
    for name in range(1, meshes + 1):
        vertices = np.full((24, 3), name, np.float32).tobytes()
        indices = np.arange(36, dtype=np.uint16) % 24
        found.buffers.append(BufferRecord(2 * name, len(vertices), GL.STATIC_DRAW, contents=blobs.put(vertices)))
        found.buffers.append(BufferRecord(2 * name + 1, 72, GL.STATIC_DRAW, contents=blobs.put(indices.tobytes())))
        attribute = AttributeRecord(0, True, 3, GL.FLOAT, False, False, False, 12, 0, 0, 2 * name)
        found.vertex_arrays.append(VertexArrayRecord(name, [attribute], 2 * name + 1))
    for name in range(1, textures + 1):
        pixels = np.full((side, side, 4), name % 256, np.uint8).tobytes()
        image = ImageRecord(
            GL.TEXTURE_2D, 0, side, side, 1, GL.RGBA8, GL.RGBA, GL.UNSIGNED_BYTE, contents=blobs.put(pixels)
        )
        parameters = {"TEXTURE_WRAP_S": [float(GL.CLAMP_TO_EDGE)], "TEXTURE_WRAP_T": [float(GL.CLAMP_TO_EDGE)]}
        found.textures.append(TextureRecord(name, GL.TEXTURE_2D, [image], parameters))
    return found


def frame_of(
    batch: CallBatch,
    objects_: Objects | None = None,
    blobs: BlobStore | None = None,
    **state: dict[tuple[int, int], tuple[int, ...]],
) -> OpenGLFrame:
    """A frame with these calls. Depth is tested and written unless `state` says otherwise."""
    store = blobs or BlobStore()
    initial: dict[str, Any] = {
        "capability": {(GL.DEPTH_TEST, 0): (1,)},
        "depth_mask": {(0, 0): (1,)},
        "depth_func": {(0, 0): (GL.LESS,)},
        "active_texture": {(0, 0): (GL.TEXTURE0,)},
        **state,
    }
    limits = {
        "MAX_VERTEX_ATTRIBS": 16,
        "MAX_UNIFORM_BLOCK_SIZE": 65536,
        "MAX_UNIFORM_BUFFER_BINDINGS": 36,
        "MAX_TEXTURE_SIZE": 4096,
    }
    context = ContextInfo(major=3, minor=3, limits=limits)
    window = DefaultFramebuffer(64, 64, alpha=8, depth=24)
    return OpenGLFrame(Metadata(), context, window, initial, objects_ or Objects(), store, stream_of(batch))


def draw(batch: CallBatch, program: int, mesh: int, texture: int, model: float = 0.0, tint: float = 1.0) -> None:
    """One draw in the naive way: everything is set before it."""
    batch.call("glUseProgram", program)
    batch.call("glActiveTexture", GL.TEXTURE0)
    batch.call("glBindTexture", GL.TEXTURE_2D, texture)
    batch.call("glUniform1i", SURFACE, 0)
    batch.call("glUniformMatrix4fv", MODEL, 1, 0, np.full(16, model, np.float32).tobytes())
    batch.call("glUniform4f", TINT, tint, tint, tint, 1.0)
    batch.call("glBindVertexArray", mesh)
    batch.call("glDrawElements", GL.TRIANGLES, 36, GL.UNSIGNED_SHORT, Raw(0))


def crowded(steps: int, programs: int = 20, meshes: int = 400, textures: int = 200) -> OpenGLFrame:
    """A frame of many steps: each mesh has its program, and some textures; runs of 500 are sorted by program, as an
    engine that sorts a little has them.
    """
    random = np.random.default_rng(1)
    blobs = BlobStore()
    batch = CallBatch()
    shapes = random.integers(0, meshes, steps)
    surfaces = (shapes * 7 + random.integers(0, 3, steps)) % textures
    order = np.argsort(shapes % programs + programs * (np.arange(steps) // 500), kind="stable")
    for step, (shape, surface) in enumerate(zip(shapes[order].tolist(), surfaces[order].tolist(), strict=True)):
        draw(batch, 1 + shape % programs, 1 + shape, 1 + surface, float(step), float(step % 3))
    return frame_of(batch, objects(blobs, programs, meshes, textures), blobs)
