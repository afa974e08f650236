"""A frame of 5,000 draws of 400 triangles each, two million together: a target for benchmarks."""

from __future__ import annotations

import os

os.environ["PYOPENGL_PLATFORM"] = "egl"

import numpy as np
import OpenGL

OpenGL.ERROR_CHECKING = False
from OpenGL import GL

from wendascope.backends.opengl.context import PbufferContext
from wendascope.backends.opengl.objects.records import DefaultFramebuffer
from wendascope.frame.context import ContextInfo

SIZE = (1280, 720)
DRAWS, SIDE = 5000, 14
"""A grid of SIDE x SIDE cells has 392 triangles; a strip beside it makes 400."""
VERTEX = (
    "#version 330\nlayout(location = 0) in vec2 at; uniform vec4 place; void main() { gl_Position = vec4(at * place.zw"
    " + place.xy, place.x * 0.4, 1.0); }\n"
)
FRAGMENT = (
    "#version 330\nuniform vec4 place; out vec4 colour; void main() { colour = vec4(abs(place.xy), 0.5, 1.0); }\n"
)


def main() -> None:
    context = PbufferContext(ContextInfo(), DefaultFramebuffer(*SIZE, alpha=8, depth=24, stencil=8))
    program = GL.glCreateProgram()
    for kind, source in ((GL.GL_VERTEX_SHADER, VERTEX), (GL.GL_FRAGMENT_SHADER, FRAGMENT)):
        shader = GL.glCreateShader(kind)
        GL.glShaderSource(shader, source)
        GL.glCompileShader(shader)
        GL.glAttachShader(program, shader)
    GL.glLinkProgram(program)
    GL.glUseProgram(program)
    x, y = np.meshgrid(np.linspace(-1, 1, SIDE + 1), np.linspace(-1, 1, SIDE + 1))
    points = np.stack([x.ravel(), y.ravel()], axis=1)
    row, column = np.divmod(np.arange(SIDE * SIDE), SIDE)
    a = row * (SIDE + 1) + column
    cells = np.stack([a, a + 1, a + SIDE + 2, a, a + SIDE + 2, a + SIDE + 1], axis=1).ravel()
    indices = np.concatenate([cells, cells[:24]]).astype(np.uint16)
    GL.glBindVertexArray(GL.glGenVertexArrays(1))
    for target, data in ((GL.GL_ARRAY_BUFFER, points.astype(np.float32)), (GL.GL_ELEMENT_ARRAY_BUFFER, indices)):
        GL.glBindBuffer(target, GL.glGenBuffers(1))
        GL.glBufferData(target, data.nbytes, data, GL.GL_STATIC_DRAW)
    GL.glVertexAttribPointer(0, 2, GL.GL_FLOAT, False, 8, None)
    GL.glEnableVertexAttribArray(0)
    GL.glEnable(GL.GL_DEPTH_TEST)
    GL.glViewport(0, 0, *SIZE)
    place = GL.glGetUniformLocation(program, "place")
    places = np.random.default_rng(0).uniform((-1, -1, 0.01, 0.01), (1, 1, 0.06, 0.06), (DRAWS, 4)).tolist()
    while True:
        GL.glClear(GL.GL_COLOR_BUFFER_BIT | GL.GL_DEPTH_BUFFER_BIT)
        for values in places:
            GL.glUniform4f(place, *values)
            GL.glDrawElements(GL.GL_TRIANGLES, len(indices), GL.GL_UNSIGNED_SHORT, None)
        context.swap()


if __name__ == "__main__":
    main()
