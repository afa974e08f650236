"""A yard of lamps from a script, with flaws mended one by one (`--better instancing,mesh,filter,state`): the
lamps are drawn one by one, each far finer than its pixels, state is set again for each, and a soft filter runs at
full size. `--measure N` prints what N frames take until they are drawn, in ms; otherwise it draws until it is ended.
"""

from __future__ import annotations

import argparse
import os
import time

os.environ["PYOPENGL_PLATFORM"] = "egl"

import numpy as np
import OpenGL

OpenGL.ERROR_CHECKING = False
from OpenGL import GL

from wendascope.backends.opengl.context import PbufferContext
from wendascope.backends.opengl.objects.records import DefaultFramebuffer
from wendascope.frame.context import ContextInfo

SIZE = (800, 450)
LAMPS = 400
FINE, COARSE = 24, 3
"""Rows of a sphere: 2 x rows x rows triangles."""
LAMP = """#version 330
layout(location = 0) in vec3 at;
INPUT vec3 place;
out vec3 normal;
void main() { normal = at; gl_Position = vec4(at * vec3(0.012, 0.02, 0.01) + place, 1.0); }
"""
GLOW = """#version 330
uniform float warmth;
in vec3 normal;
out vec4 result;
void main() { result = vec4(vec3(0.9, 0.6, 0.3) * (0.4 + 0.6 * abs(normal.z)) * warmth, 1.0); }
"""
COVER = """#version 330
out vec2 uv;
void main() { uv = vec2(gl_VertexID & 1, gl_VertexID >> 1) * 2.0; gl_Position = vec4(uv * 2.0 - 1.0, 0.0, 1.0); }
"""
SOFT = """#version 330
uniform sampler2D image;
in vec2 uv;
out vec4 result;
void main() {
    vec4 sum = vec4(0.0);
    for (int k = -6; k <= 6; k++)
        for (int j = -1; j <= 1; j++) sum += texture(image, uv + vec2(k, j) * 0.004);
    result = sum / 39.0;
}
"""
COPY = """#version 330
uniform sampler2D image;
in vec2 uv;
out vec4 result;
void main() { result = texture(image, uv); }
"""


def _program(vertex: str, fragment: str) -> int:
    program = GL.glCreateProgram()
    for kind, source in ((GL.GL_VERTEX_SHADER, vertex), (GL.GL_FRAGMENT_SHADER, fragment)):
        shader = GL.glCreateShader(kind)
        GL.glShaderSource(shader, source)
        GL.glCompileShader(shader)
        GL.glAttachShader(program, shader)
    GL.glLinkProgram(program)
    return int(program)


def _sphere(rows: int) -> np.ndarray:
    up, round_ = np.meshgrid(np.linspace(0, np.pi, rows + 1), np.linspace(0, 2 * np.pi, rows + 1), indexing="ij")
    points = np.stack([np.sin(up) * np.cos(round_), np.cos(up), np.sin(up) * np.sin(round_)], axis=2)
    a, b, c, d = points[:-1, :-1], points[:-1, 1:], points[1:, 1:], points[1:, :-1]
    return np.stack([a, b, c, a, c, d], axis=2).reshape(-1, 3).astype(np.float32)


def _target(width: int, height: int) -> tuple[int, int]:
    texture = GL.glGenTextures(1)
    GL.glBindTexture(GL.GL_TEXTURE_2D, texture)
    GL.glTexStorage2D(GL.GL_TEXTURE_2D, 1, GL.GL_RGBA8, width, height)
    for parameter in (GL.GL_TEXTURE_MIN_FILTER, GL.GL_TEXTURE_MAG_FILTER):
        GL.glTexParameteri(GL.GL_TEXTURE_2D, parameter, GL.GL_LINEAR)
    for parameter in (GL.GL_TEXTURE_WRAP_S, GL.GL_TEXTURE_WRAP_T):
        GL.glTexParameteri(GL.GL_TEXTURE_2D, parameter, GL.GL_CLAMP_TO_EDGE)
    framebuffer = GL.glGenFramebuffers(1)
    GL.glBindFramebuffer(GL.GL_FRAMEBUFFER, framebuffer)
    GL.glFramebufferTexture2D(GL.GL_FRAMEBUFFER, GL.GL_COLOR_ATTACHMENT0, GL.GL_TEXTURE_2D, texture, 0)
    return int(framebuffer), int(texture)


class Yard:
    """Draws one frame."""

    def __init__(self, better: set[str]) -> None:
        self.better = better
        single = LAMP.replace("INPUT", "uniform")
        self.lamp = _program(single, GLOW)
        self.many = _program(LAMP.replace("INPUT", "layout(location = 1) in"), GLOW)
        self.soft, self.copy = _program(COVER, SOFT), _program(COVER, COPY)
        mesh = _sphere(COARSE if "mesh" in better else FINE)
        self.places = np.random.default_rng(3).uniform((-0.95, -0.9, -0.5), (0.95, 0.9, 0.5), (LAMPS, 3))
        self.count = len(mesh)
        self.array = GL.glGenVertexArrays(1)
        GL.glBindVertexArray(self.array)
        for index, data in ((0, mesh), (1, self.places.astype(np.float32))):
            GL.glBindBuffer(GL.GL_ARRAY_BUFFER, GL.glGenBuffers(1))
            GL.glBufferData(GL.GL_ARRAY_BUFFER, data.nbytes, data, GL.GL_STATIC_DRAW)
            if index == 0 or "instancing" in better:
                GL.glEnableVertexAttribArray(index)
                GL.glVertexAttribPointer(index, 3, GL.GL_FLOAT, False, 0, None)
                GL.glVertexAttribDivisor(index, index)
        self.scene, self.image = _target(*SIZE)
        width, height = (side // 2 if "filter" in better else side for side in SIZE)
        self.filtered, self.softened = _target(width, height)
        self.small = (width, height)
        self.place = GL.glGetUniformLocation(self.lamp, "place")
        self.warmth = [GL.glGetUniformLocation(p, "warmth") for p in (self.lamp, self.many)]

    def draw(self) -> None:
        GL.glBindFramebuffer(GL.GL_FRAMEBUFFER, self.scene)
        GL.glViewport(0, 0, *SIZE)
        GL.glClearColor(0.02, 0.03, 0.06, 1.0)
        GL.glClear(GL.GL_COLOR_BUFFER_BIT)
        GL.glBindVertexArray(self.array)
        if "instancing" in self.better:
            GL.glUseProgram(self.many)
            GL.glUniform1f(self.warmth[1], 0.8)
            GL.glDrawArraysInstanced(GL.GL_TRIANGLES, 0, self.count, LAMPS)
        else:
            self._one_by_one()
        for program, framebuffer, size, source in (
            (self.soft, self.filtered, self.small, self.image),
            (self.copy, 0, SIZE, self.softened),
        ):
            GL.glUseProgram(program)
            GL.glBindFramebuffer(GL.GL_FRAMEBUFFER, framebuffer)
            GL.glViewport(0, 0, *size)
            GL.glBindTexture(GL.GL_TEXTURE_2D, source)
            GL.glDrawArrays(GL.GL_TRIANGLES, 0, 3)

    def _one_by_one(self) -> None:
        again = "state" not in self.better
        GL.glUseProgram(self.lamp)
        GL.glUniform1f(self.warmth[0], 0.8)
        for x, y, z in self.places.tolist():
            if again:
                GL.glUseProgram(self.lamp)
                GL.glBindVertexArray(self.array)
                GL.glDisable(GL.GL_BLEND)
                GL.glDisable(GL.GL_DEPTH_TEST)
                GL.glUniform1f(self.warmth[0], 0.8)
            GL.glUniform3f(self.place, x, y, z)
            GL.glDrawArrays(GL.GL_TRIANGLES, 0, self.count)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--better", default="", help="flaws to mend, with commas between")
    parser.add_argument("--measure", type=int, default=0, help="frames to measure")
    arguments = parser.parse_args()
    context = PbufferContext(ContextInfo(), DefaultFramebuffer(*SIZE, alpha=8, depth=24, stencil=8))
    yard = Yard(set(filter(None, arguments.better.split(","))))
    times: list[float] = []
    while not arguments.measure or len(times) < arguments.measure + 3:
        before = time.perf_counter()
        yard.draw()
        if arguments.measure:
            GL.glFinish()
        context.swap()
        times.append((time.perf_counter() - before) * 1000)
        if not arguments.measure:
            times.clear()
    print(f"{np.median(times[3:]):.3f}")


if __name__ == "__main__":
    main()
