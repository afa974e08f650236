"""A small OpenGL 3.3 core program in an EGL pbuffer: three passes, a uniform block, textures, blending.

Writes a checksum of its last picture to --out, so that a test can tell whether it ran unharmed.
"""

from __future__ import annotations

import argparse
import ctypes
import hashlib
import os
import time
from pathlib import Path

os.environ["PYOPENGL_PLATFORM"] = "egl"

import numpy as np
import OpenGL

from wendascope.backends.opengl.context import PbufferContext
from wendascope.backends.opengl.objects.records import DefaultFramebuffer
from wendascope.frame.context import ContextInfo

OpenGL.ERROR_CHECKING = False
from _linking import make_program
from OpenGL import GL

SIZE = 96
VERTEX = """#version 330 core
layout(location = 0) in vec2 position;
layout(std140) uniform Place { vec4 shift; };
uniform float scale;
out vec2 at;
void main() { at = position * 0.5 + 0.5; gl_Position = vec4(position * scale + shift.xy, 0.0, 1.0); }
"""
FRAGMENT = """#version 330 core
in vec2 at;
uniform sampler2D picture;
uniform vec4 tint;
out vec4 color;
void main() { color = texture(picture, at) * tint; }
"""


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--frames", type=int, default=30)
    parser.add_argument("--out", type=Path)
    parser.add_argument("--pause", type=float, default=0.0)
    parser.add_argument("--linger", type=float, default=0.0, help="seconds after the last frame")
    options = parser.parse_args()
    context = PbufferContext(ContextInfo(), DefaultFramebuffer(SIZE, SIZE, alpha=8, depth=24, stencil=8))
    program = make_program(VERTEX, FRAGMENT)
    GL.glUniformBlockBinding(program, GL.glGetUniformBlockIndex(program, "Place"), 2)
    scale, tint = (GL.glGetUniformLocation(program, n) for n in ("scale", "tint"))
    array = GL.glGenVertexArrays(1)
    GL.glBindVertexArray(array)
    GL.glBindBuffer(GL.GL_ARRAY_BUFFER, GL.glGenBuffers(1))
    corners = np.array([-1, -1, 1, -1, -1, 1, 1, 1], np.float32)
    GL.glBufferData(GL.GL_ARRAY_BUFFER, corners.nbytes, corners, GL.GL_STATIC_DRAW)
    GL.glEnableVertexAttribArray(0)
    GL.glVertexAttribPointer(0, 2, GL.GL_FLOAT, False, 8, ctypes.c_void_p(0))
    block = GL.glGenBuffers(1)
    GL.glBindBufferBase(GL.GL_UNIFORM_BUFFER, 2, block)
    noise = np.random.default_rng(1).integers(0, 255, (16, 16, 4)).astype(np.uint8)
    picture, canvas = (int(t) for t in GL.glGenTextures(2))
    for name, size, data in ((picture, 16, noise), (canvas, 64, None)):
        GL.glBindTexture(GL.GL_TEXTURE_2D, name)
        GL.glTexImage2D(GL.GL_TEXTURE_2D, 0, GL.GL_RGBA8, size, size, 0, GL.GL_RGBA, GL.GL_UNSIGNED_BYTE, data)
        GL.glTexParameteri(GL.GL_TEXTURE_2D, GL.GL_TEXTURE_MIN_FILTER, GL.GL_LINEAR)
    framebuffer = GL.glGenFramebuffers(1)
    GL.glBindFramebuffer(GL.GL_FRAMEBUFFER, framebuffer)
    GL.glFramebufferTexture2D(GL.GL_FRAMEBUFFER, GL.GL_COLOR_ATTACHMENT0, GL.GL_TEXTURE_2D, canvas, 0)
    errors = []
    for frame in range(options.frames):
        GL.glUseProgram(program)
        GL.glBindFramebuffer(GL.GL_FRAMEBUFFER, framebuffer)
        GL.glViewport(0, 0, 64, 64)
        # the canvas is not cleared: every frame builds on the one before
        GL.glBindTexture(GL.GL_TEXTURE_2D, picture)
        GL.glEnable(GL.GL_BLEND)
        GL.glBlendFunc(GL.GL_SRC_ALPHA, GL.GL_ONE_MINUS_SRC_ALPHA)
        GL.glBufferData(
            GL.GL_UNIFORM_BUFFER, 16, np.array([0.1 * (frame % 7) - 0.3, 0.2, 0, 0], np.float32), GL.GL_DYNAMIC_DRAW
        )
        GL.glUniform1f(scale, 0.3)
        GL.glUniform4f(tint, 1.0, 0.8, 0.6, 0.25)
        GL.glDrawArrays(GL.GL_TRIANGLE_STRIP, 0, 4)
        GL.glDisable(GL.GL_BLEND)
        GL.glBindFramebuffer(GL.GL_FRAMEBUFFER, 0)
        GL.glViewport(0, 0, SIZE, SIZE)
        GL.glClearColor(0.1, 0.1, 0.2, 1.0)
        GL.glClear(GL.GL_COLOR_BUFFER_BIT | GL.GL_DEPTH_BUFFER_BIT)
        GL.glBindTexture(GL.GL_TEXTURE_2D, canvas)
        GL.glBufferSubData(GL.GL_UNIFORM_BUFFER, 0, 16, np.zeros(4, np.float32))
        GL.glUniform1f(scale, 0.9)
        for i in range(20):
            GL.glUniform4f(tint, 1.0, 1.0 - i / 40, 0.5 + i / 40, 1.0)
            GL.glUniform1f(scale, 0.9 - i * 0.04)
            GL.glDrawArraysInstanced(GL.GL_TRIANGLE_STRIP, 0, 4, 1 + i % 2)
        pixels = (
            GL.glReadPixels(0, 0, SIZE, SIZE, GL.GL_RGBA, GL.GL_UNSIGNED_BYTE) if frame == options.frames - 1 else b""
        )
        errors.append(int(GL.glGetError()))
        context.swap()
        if options.pause:
            time.sleep(options.pause)
    time.sleep(options.linger)
    if options.out:
        text = f"{hashlib.sha256(pixels).hexdigest()} errors {sorted(set(errors))}"
        scratch = options.out.with_suffix(".part")
        scratch.write_text(text)
        scratch.rename(options.out)


if __name__ == "__main__":
    main()
