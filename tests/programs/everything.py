"""An OpenGL 3.3 core program in an EGL pbuffer that uses every kind of object a frame of that version can hold."""

from __future__ import annotations

import ctypes
import os

os.environ["PYOPENGL_PLATFORM"] = "egl"

import numpy as np
import OpenGL

from wendascope.backends.opengl.context import PbufferContext
from wendascope.backends.opengl.objects.records import DefaultFramebuffer
from wendascope.frame.context import ContextInfo

OpenGL.ERROR_CHECKING = False
from _linking import make_program
from OpenGL import GL, images

images.TYPE_TO_ARRAYTYPE[GL.GL_UNSIGNED_INT_24_8] = GL.GL_UNSIGNED_INT  # the binding does not know this one
SIZE = 128
VERTEX = """#version 330 core
layout(location = 1) in vec2 position;
layout(location = 2) in ivec2 cell;
layout(location = 3) in vec4 shade;
layout(location = 4) in vec4 wash;
uniform samplerBuffer shifts;
uniform mat2 turn[2];
flat out ivec2 place;
out vec3 at;
out vec4 paint;
void main() {
    place = cell;
    paint = shade * wash;
    at = vec3(position * 0.5 + 0.5, 0.4);
    vec2 shift = texelFetch(shifts, gl_InstanceID).xy;
    gl_Position = vec4(turn[gl_InstanceID & 1] * position * 0.2 + shift, 0.1 * float(gl_InstanceID), 1.0);
}
"""
FRAGMENT = """#version 330 core
flat in ivec2 place;
in vec3 at;
in vec4 paint;
uniform sampler1D line;
uniform sampler2D flat_one;
uniform sampler3D solid;
uniform sampler2DArray sheets;
uniform samplerCube sky;
uniform sampler2DRect screen;
uniform usampler2D counts;
uniform sampler2D squeezed;
uniform sampler2D half_one;
uniform float weights[3];
layout(location = 0) out vec4 color;
layout(location = 1) out vec4 second;
void main() {
    vec4 sum = texture(line, at.x) * weights[0] + texture(flat_one, at.xy) * weights[1]
        + texture(solid, at) * weights[2];
    sum += 0.2 * texture(sheets, vec3(at.xy, float(place.x & 1))) + 0.2 * texture(sky, at - 0.5);
    sum += 0.1 * texture(screen, at.xy * 8.0) + 0.05 * vec4(texture(counts, at.xy).rgb % 7u, 1.0);
    sum += 0.1 * texture(squeezed, at.xy) + 0.1 * texture(half_one, at.xy);
    color = sum * paint;
    second = vec4(at, 1.0);
}
"""
COPY_VERTEX = """#version 330 core
out vec2 at;
void main() { at = vec2(gl_VertexID & 1, gl_VertexID >> 1) * 2.0; gl_Position = vec4(at * 2.0 - 1.0, 0.0, 1.0); }
"""
COPY_FRAGMENT = """#version 330 core
in vec2 at;
uniform sampler2D first;
uniform sampler2D other;
uniform sampler2DShadow depth;
layout(std140) uniform Mix { vec4 part; vec4 lift; };
out vec4 color;
void main() { color = mix(texture(first, at), texture(other, at), part) + lift + 0.1 * texture(depth, vec3(at, 0.45)); }
"""


def make_textures(random: np.random.Generator) -> dict[str, tuple[int, int]]:
    """Sampler name -> (target, texture), one of every kind."""

    def bytes_of(*shape: int) -> np.ndarray:
        return random.integers(0, 255, shape).astype(np.uint8)

    rgba, byte = GL.GL_RGBA, GL.GL_UNSIGNED_BYTE
    found = {}

    def make(name: str, target: int) -> None:
        texture = int(GL.glGenTextures(1))
        GL.glBindTexture(target, texture)
        if target != GL.GL_TEXTURE_BUFFER:
            GL.glTexParameteri(target, GL.GL_TEXTURE_MIN_FILTER, GL.GL_NEAREST)
            GL.glTexParameteri(target, GL.GL_TEXTURE_MAG_FILTER, GL.GL_NEAREST)
        found[name] = (target, texture)

    make("line", GL.GL_TEXTURE_1D)
    GL.glTexImage1D(GL.GL_TEXTURE_1D, 0, GL.GL_RGBA8, 8, 0, rgba, byte, bytes_of(8, 4))
    make("flat_one", GL.GL_TEXTURE_2D)
    GL.glPixelStorei(GL.GL_UNPACK_ALIGNMENT, 1)
    GL.glTexImage2D(GL.GL_TEXTURE_2D, 0, GL.GL_RGB8, 7, 5, 0, GL.GL_RGB, byte, bytes_of(5, 7, 3))
    GL.glTexParameteriv(
        GL.GL_TEXTURE_2D,
        GL.GL_TEXTURE_SWIZZLE_RGBA,
        np.array([GL.GL_BLUE, GL.GL_ONE, GL.GL_RED, GL.GL_GREEN], np.int32),
    )
    make("solid", GL.GL_TEXTURE_3D)
    GL.glTexImage3D(GL.GL_TEXTURE_3D, 0, GL.GL_RGBA8, 4, 4, 4, 0, rgba, byte, bytes_of(4, 4, 4, 4))
    make("sheets", GL.GL_TEXTURE_2D_ARRAY)
    GL.glTexImage3D(GL.GL_TEXTURE_2D_ARRAY, 0, GL.GL_RGBA8, 8, 8, 2, 0, rgba, byte, bytes_of(2, 8, 8, 4))
    make("sky", GL.GL_TEXTURE_CUBE_MAP)
    for face in range(6):
        GL.glTexImage2D(
            GL.GL_TEXTURE_CUBE_MAP_POSITIVE_X + face, 0, GL.GL_SRGB8_ALPHA8, 4, 4, 0, rgba, byte, bytes_of(4, 4, 4)
        )
    make("screen", GL.GL_TEXTURE_RECTANGLE)
    GL.glTexImage2D(GL.GL_TEXTURE_RECTANGLE, 0, GL.GL_RG8, 8, 8, 0, GL.GL_RG, byte, bytes_of(8, 8, 2))
    make("counts", GL.GL_TEXTURE_2D)
    GL.glTexImage2D(
        GL.GL_TEXTURE_2D,
        0,
        GL.GL_RGBA32UI,
        4,
        4,
        0,
        GL.GL_RGBA_INTEGER,
        GL.GL_UNSIGNED_INT,
        random.integers(0, 1 << 32, (4, 4, 4), np.uint32),
    )
    make("squeezed", GL.GL_TEXTURE_2D)
    # a block-compressed picture: two 4x4 blocks of RGTC1
    GL.glCompressedTexImage2D(GL.GL_TEXTURE_2D, 0, GL.GL_COMPRESSED_RED_RGTC1, 8, 4, 0, bytes_of(16))
    make("half_one", GL.GL_TEXTURE_2D)
    for level, size in enumerate((8, 4, 2, 1)):
        GL.glTexImage2D(
            GL.GL_TEXTURE_2D,
            level,
            GL.GL_R11F_G11F_B10F,
            size,
            size,
            0,
            GL.GL_RGB,
            GL.GL_FLOAT,
            random.random((size, size, 3), np.float32),
        )
    GL.glTexParameteri(GL.GL_TEXTURE_2D, GL.GL_TEXTURE_MIN_FILTER, GL.GL_NEAREST_MIPMAP_LINEAR)
    GL.glTexParameterf(GL.GL_TEXTURE_2D, GL.GL_TEXTURE_LOD_BIAS, 0.7)
    make("shifts", GL.GL_TEXTURE_BUFFER)
    buffer = GL.glGenBuffers(1)
    GL.glBindBuffer(GL.GL_TEXTURE_BUFFER, buffer)
    shifts = np.array([[x, y] for y in (-0.6, 0.0, 0.6) for x in (-0.6, 0.0, 0.6)], np.float32)
    GL.glBufferData(GL.GL_TEXTURE_BUFFER, shifts.nbytes, shifts, GL.GL_STATIC_DRAW)
    GL.glTexBuffer(GL.GL_TEXTURE_BUFFER, GL.GL_RG32F, buffer)
    return found


def main() -> None:
    context = PbufferContext(ContextInfo(), DefaultFramebuffer(SIZE, SIZE, alpha=8, depth=24, stencil=8))
    random = np.random.default_rng(3)
    program, copy = make_program(VERTEX, FRAGMENT), make_program(COPY_VERTEX, COPY_FRAGMENT)
    textures = make_textures(random)
    array = GL.glGenVertexArrays(1)
    GL.glBindVertexArray(array)
    vertices = np.zeros(4, np.dtype([("position", np.int16, 2), ("cell", np.int32, 2), ("shade", np.uint8, 4)]))
    vertices["position"] = [[-32767, -32767], [32767, -32767], [-32767, 32767], [32767, 32767]]
    vertices["cell"] = random.integers(0, 9, (4, 2))
    vertices["shade"] = random.integers(128, 255, (4, 4))
    buffer = GL.glGenBuffers(1)
    GL.glBindBuffer(GL.GL_ARRAY_BUFFER, buffer)
    GL.glBufferData(GL.GL_ARRAY_BUFFER, vertices.nbytes, None, GL.GL_DYNAMIC_DRAW)
    stride = vertices.dtype.itemsize
    for index in (1, 2, 3):
        GL.glEnableVertexAttribArray(index)
    GL.glVertexAttribPointer(1, 2, GL.GL_SHORT, True, stride, ctypes.c_void_p(0))
    GL.glVertexAttribIPointer(2, 2, GL.GL_INT, stride, ctypes.c_void_p(4))
    GL.glVertexAttribPointer(3, 4, GL.GL_UNSIGNED_BYTE, True, stride, ctypes.c_void_p(12))
    elements = GL.glGenBuffers(1)
    GL.glBindBuffer(GL.GL_ELEMENT_ARRAY_BUFFER, elements)
    indices = np.array([0, 1, 2, 0xFFFF, 2, 1, 3], np.uint16)
    GL.glBufferData(GL.GL_ELEMENT_ARRAY_BUFFER, indices.nbytes, indices, GL.GL_STATIC_DRAW)
    empty = GL.glGenVertexArrays(1)
    targets = [int(t) for t in GL.glGenTextures(3)]
    for texture, internal, format_, kind in (
        (targets[0], GL.GL_RGBA16F, GL.GL_RGBA, GL.GL_FLOAT),
        (targets[1], GL.GL_RGB10_A2, GL.GL_RGBA, GL.GL_UNSIGNED_BYTE),
        (targets[2], GL.GL_DEPTH24_STENCIL8, GL.GL_DEPTH_STENCIL, GL.GL_UNSIGNED_INT_24_8),
    ):
        GL.glBindTexture(GL.GL_TEXTURE_2D, texture)
        GL.glTexImage2D(GL.GL_TEXTURE_2D, 0, internal, SIZE, SIZE, 0, format_, kind, None)
        GL.glTexParameteri(GL.GL_TEXTURE_2D, GL.GL_TEXTURE_MIN_FILTER, GL.GL_LINEAR)
    framebuffer = GL.glGenFramebuffers(1)
    GL.glBindFramebuffer(GL.GL_FRAMEBUFFER, framebuffer)
    for i in (0, 1):
        GL.glFramebufferTexture2D(GL.GL_FRAMEBUFFER, GL.GL_COLOR_ATTACHMENT0 + i, GL.GL_TEXTURE_2D, targets[i], 0)
    GL.glFramebufferTexture2D(GL.GL_FRAMEBUFFER, GL.GL_DEPTH_STENCIL_ATTACHMENT, GL.GL_TEXTURE_2D, targets[2], 0)
    GL.glDrawBuffers(2, np.array([GL.GL_COLOR_ATTACHMENT0, GL.GL_COLOR_ATTACHMENT1], np.uint32))
    GL.glClear(GL.GL_COLOR_BUFFER_BIT | GL.GL_DEPTH_BUFFER_BIT | GL.GL_STENCIL_BUFFER_BIT)
    copied = GL.glGenFramebuffers(1)
    renderbuffer = GL.glGenRenderbuffers(1)
    GL.glBindRenderbuffer(GL.GL_RENDERBUFFER, renderbuffer)
    GL.glRenderbufferStorage(GL.GL_RENDERBUFFER, GL.GL_RGBA8, SIZE, SIZE)
    GL.glBindFramebuffer(GL.GL_FRAMEBUFFER, copied)
    GL.glFramebufferRenderbuffer(GL.GL_FRAMEBUFFER, GL.GL_COLOR_ATTACHMENT0, GL.GL_RENDERBUFFER, renderbuffer)
    sampler = GL.glGenSamplers(1)
    GL.glSamplerParameteri(sampler, GL.GL_TEXTURE_WRAP_S, GL.GL_MIRRORED_REPEAT)
    GL.glSamplerParameteri(sampler, GL.GL_TEXTURE_MIN_FILTER, GL.GL_LINEAR)
    compare = GL.glGenSamplers(1)
    GL.glSamplerParameteri(compare, GL.GL_TEXTURE_COMPARE_MODE, GL.GL_COMPARE_REF_TO_TEXTURE)
    GL.glSamplerParameteri(compare, GL.GL_TEXTURE_MIN_FILTER, GL.GL_NEAREST)
    align = int(GL.glGetIntegerv(GL.GL_UNIFORM_BUFFER_OFFSET_ALIGNMENT))
    block = GL.glGenBuffers(1)
    GL.glBindBuffer(GL.GL_UNIFORM_BUFFER, block)
    GL.glBufferData(
        GL.GL_UNIFORM_BUFFER,
        align + 32,
        np.tile(np.array([0.3, 0.5, 0.7, 0.5], np.float32), (align + 32) // 16),
        GL.GL_STATIC_DRAW,
    )
    GL.glUniformBlockBinding(copy, GL.glGetUniformBlockIndex(copy, "Mix"), 3)
    GL.glUseProgram(program)
    GL.glUniformMatrix2fv(
        GL.glGetUniformLocation(program, "turn"), 2, False, np.array([[1, 0, 0, 1], [0.8, 0.6, -0.6, 0.8]], np.float32)
    )
    GL.glUniform1fv(GL.glGetUniformLocation(program, "weights"), 3, np.array([0.2, 0.3, 0.4], np.float32))
    # no array feeds this attribute: its value is state of the context, set long before the frame
    GL.glVertexAttrib4f(4, 0.9, 0.5, 0.7, 1.0)
    GL.glEnable(GL.GL_PRIMITIVE_RESTART)
    GL.glPrimitiveRestartIndex(0xFFFF)
    frame = 0
    while True:
        draw_frame(
            frame,
            program,
            copy,
            textures,
            targets,
            (framebuffer, copied),
            (array, empty),
            (sampler, compare),
            (buffer, vertices),
            (block, align),
        )
        context.swap()
        frame += 1


def draw_frame(frame, program, copy, textures, targets, framebuffers, arrays, samplers, vertex, block) -> None:
    GL.glBindFramebuffer(GL.GL_FRAMEBUFFER, framebuffers[0])
    GL.glViewport(0, 0, SIZE, SIZE)
    GL.glEnable(GL.GL_DEPTH_TEST)
    GL.glClearBufferfv(GL.GL_DEPTH, 0, np.array([1.0], np.float32))
    GL.glClearBufferfv(GL.GL_COLOR, 1, np.array([0.1, 0.2, 0.3, 1.0], np.float32))
    GL.glEnable(GL.GL_SCISSOR_TEST)
    GL.glScissor(8, 8, 100 + frame % 5, 110)
    GL.glColorMaski(1, True, False, True, True)
    GL.glEnablei(GL.GL_BLEND, 0)
    GL.glBlendFuncSeparate(GL.GL_SRC_ALPHA, GL.GL_ONE_MINUS_SRC_ALPHA, GL.GL_ONE, GL.GL_ZERO)
    GL.glBindBuffer(GL.GL_ARRAY_BUFFER, vertex[0])
    # written through a mapping, inside the frame
    mapped = GL.glMapBufferRange(
        GL.GL_ARRAY_BUFFER, 0, vertex[1].nbytes, GL.GL_MAP_WRITE_BIT | GL.GL_MAP_INVALIDATE_BUFFER_BIT
    )
    moved = vertex[1].copy()
    moved["cell"] += frame
    ctypes.memmove(mapped, moved.tobytes(), moved.nbytes)
    GL.glUnmapBuffer(GL.GL_ARRAY_BUFFER)
    GL.glUseProgram(program)
    for unit, (name, (target, texture)) in enumerate(textures.items()):
        GL.glActiveTexture(GL.GL_TEXTURE0 + unit)
        GL.glBindTexture(target, texture)
        GL.glUniform1i(GL.glGetUniformLocation(program, name), unit)
    GL.glBindVertexArray(arrays[0])
    GL.glDrawElementsInstanced(GL.GL_TRIANGLE_STRIP, 7, GL.GL_UNSIGNED_SHORT, None, 9)
    GL.glEnable(GL.GL_STENCIL_TEST)
    GL.glStencilFuncSeparate(GL.GL_FRONT, GL.GL_ALWAYS, 3, 0xFF)
    GL.glStencilOp(GL.GL_KEEP, GL.GL_KEEP, GL.GL_REPLACE)
    GL.glDrawRangeElements(GL.GL_TRIANGLES, 0, 3, 3, GL.GL_UNSIGNED_SHORT, ctypes.c_void_p(2))
    GL.glDisable(GL.GL_STENCIL_TEST)
    GL.glDisable(GL.GL_SCISSOR_TEST)
    GL.glDisablei(GL.GL_BLEND, 0)
    GL.glDisable(GL.GL_DEPTH_TEST)
    # a texture that lives for one frame only, filled from a copy of the target
    brief = int(GL.glGenTextures(1))
    GL.glActiveTexture(GL.GL_TEXTURE0)
    GL.glBindTexture(GL.GL_TEXTURE_2D, brief)
    GL.glReadBuffer(GL.GL_COLOR_ATTACHMENT1)
    GL.glCopyTexImage2D(GL.GL_TEXTURE_2D, 0, GL.GL_RGBA8, 0, 0, SIZE, SIZE, 0)
    GL.glTexSubImage2D(
        GL.GL_TEXTURE_2D, 0, 4, 4, 2, 2, GL.GL_RGBA, GL.GL_UNSIGNED_BYTE, np.full((2, 2, 4), frame % 256, np.uint8)
    )
    GL.glGenerateMipmap(GL.GL_TEXTURE_2D)
    GL.glBindFramebuffer(GL.GL_DRAW_FRAMEBUFFER, framebuffers[1])
    GL.glReadBuffer(GL.GL_COLOR_ATTACHMENT0)
    GL.glBlitFramebuffer(0, 0, SIZE, SIZE, 0, 0, SIZE // 2, SIZE, GL.GL_COLOR_BUFFER_BIT, GL.GL_NEAREST)
    GL.glBindFramebuffer(GL.GL_FRAMEBUFFER, 0)
    GL.glUseProgram(copy)
    for unit, (name, texture) in enumerate((("first", targets[0]), ("other", brief), ("depth", targets[2]))):
        GL.glActiveTexture(GL.GL_TEXTURE0 + unit)
        GL.glBindTexture(GL.GL_TEXTURE_2D, texture)
        GL.glUniform1i(GL.glGetUniformLocation(copy, name), unit)
    GL.glBindSampler(0, samplers[0])
    GL.glBindSampler(2, samplers[1])
    GL.glBindBufferRange(GL.GL_UNIFORM_BUFFER, 3, block[0], block[1], 32)
    GL.glBindVertexArray(arrays[1])
    GL.glDrawArrays(GL.GL_TRIANGLES, 0, 3)
    GL.glBindSampler(0, 0)
    GL.glBindSampler(2, 0)
    GL.glBindFramebuffer(GL.GL_READ_FRAMEBUFFER, framebuffers[1])
    GL.glBlitFramebuffer(0, 0, SIZE, SIZE, 96, 96, 128, 128, GL.GL_COLOR_BUFFER_BIT, GL.GL_LINEAR)
    GL.glBindFramebuffer(GL.GL_FRAMEBUFFER, 0)
    GL.glDeleteTextures([brief])


if __name__ == "__main__":
    main()
