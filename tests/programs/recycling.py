"""Makes objects inside every frame, draws with them, and deletes them while they are bound."""

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
from OpenGL import GL

SIZE = 96
VERTEX = """#version 330 core
layout(location = 0) in vec2 position;
uniform float shift;
out vec2 at;
void main() { at = position; gl_Position = vec4(position * 0.6 - vec2(shift, 0.3), 0.0, 1.0); }
"""
FRAGMENT = """#version 330 core
in vec2 at;
uniform sampler2D picture;
out vec4 color;
void main() { color = texture(picture, at) + vec4(0.1, 0.0, 0.2, 0.0); }
"""


def main() -> None:
    context = PbufferContext(ContextInfo(), DefaultFramebuffer(SIZE, SIZE, alpha=8))
    program = make_program(VERTEX, FRAGMENT)
    shift = GL.glGetUniformLocation(program, "shift")
    random = np.random.default_rng(9)
    frame = 0
    while True:
        GL.glClearColor(0.0, frame % 5 / 9, 0.1, 1.0)
        GL.glClear(GL.GL_COLOR_BUFFER_BIT)
        GL.glUseProgram(program)
        for part in range(3):
            array, buffer, texture = int(GL.glGenVertexArrays(1)), int(GL.glGenBuffers(1)), int(GL.glGenTextures(1))
            GL.glBindVertexArray(array)
            GL.glBindBuffer(GL.GL_ARRAY_BUFFER, buffer)
            corners = np.array([0, 0, 1, 0, 0, 1, 1, 1], np.float32) * (1.0 - 0.1 * part)
            GL.glBufferData(GL.GL_ARRAY_BUFFER, corners.nbytes, corners, GL.GL_STREAM_DRAW)
            GL.glEnableVertexAttribArray(0)
            GL.glVertexAttribPointer(0, 2, GL.GL_FLOAT, False, 8, ctypes.c_void_p(0))
            GL.glBindTexture(GL.GL_TEXTURE_2D, texture)
            pixels = random.integers(0, 255, (4, 4, 4)).astype(np.uint8)
            GL.glTexImage2D(GL.GL_TEXTURE_2D, 0, GL.GL_RGBA8, 4, 4, 0, GL.GL_RGBA, GL.GL_UNSIGNED_BYTE, pixels)
            GL.glTexParameteri(GL.GL_TEXTURE_2D, GL.GL_TEXTURE_MIN_FILTER, GL.GL_NEAREST)
            GL.glUniform1f(shift, 0.9 - 0.6 * part)
            GL.glDrawArrays(GL.GL_TRIANGLE_STRIP, 0, 4)
            if part == 1:
                # deleted while bound: the next draw samples nothing
                GL.glDeleteTextures([texture])
                GL.glUniform1f(shift, 0.1)
                GL.glDrawArrays(GL.GL_TRIANGLES, 0, 3)
            else:
                GL.glDeleteTextures([texture])
            GL.glDeleteBuffers(1, [buffer])
            GL.glDeleteVertexArrays(1, [array])
        context.swap()
        frame += 1


if __name__ == "__main__":
    main()
