"""What the programs share: rectangles on the pixel grid, targets, textures. The window is WIDTH x HEIGHT."""

from __future__ import annotations

import functools
import sys
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).parent.parent / "programs"))
from _linking import link, make_program  # noqa: F401
from OpenGL import GL

WIDTH, HEIGHT = 160, 120
RED, GREEN, BLUE, WHITE, GREY = (1, 0, 0, 1), (0, 1, 0, 1), (0, 0, 1, 1), (1, 1, 1, 1), (0.5, 0.5, 0.5, 1)

VERTEX = """#version 330
layout(location=0) in vec2 corner;
uniform vec4 rect = vec4(-1.0, -1.0, 1.0, 1.0);
uniform float depth = 0.0;
out vec2 uv;
void main() { uv = corner; gl_Position = vec4(mix(rect.xy, rect.zw, corner), depth, 1.0); }
"""
FLAT = """#version 330
uniform vec4 colour;
out vec4 result;
void main() { result = colour; }
"""
TEXTURED = """#version 330
uniform sampler2D image;
in vec2 uv;
out vec4 result;
void main() { result = texture(image, uv); }
"""


class Painter:
    """Draws rectangles with one program, each with the uniforms that it needs and no call more."""

    def __init__(self, fragment: str = FLAT, vertex: str = VERTEX) -> None:
        self.program = make_program(vertex, fragment)
        self._at = functools.cache(lambda name: GL.glGetUniformLocation(self.program, name))
        unit_square()

    def use(self) -> Painter:
        GL.glUseProgram(self.program)
        return self

    def set(self, name: str, *values: float) -> Painter:
        at = self._at(name)
        assert at >= 0, name
        (GL.glUniform1f, GL.glUniform2f, GL.glUniform3f, GL.glUniform4f)[len(values) - 1](at, *values)
        return self

    def integer(self, name: str, value: int) -> Painter:
        GL.glUniform1i(self._at(name), value)
        return self

    def place(self, x0: float, y0: float, x1: float, y1: float, width: int = WIDTH, height: int = HEIGHT) -> Painter:
        """Where the next rectangle goes, in pixels of a target of that size."""
        return self.set("rect", 2 * x0 / width - 1, 2 * y0 / height - 1, 2 * x1 / width - 1, 2 * y1 / height - 1)

    def draw(self) -> Painter:
        GL.glDrawArrays(GL.GL_TRIANGLE_STRIP, 0, 4)
        return self

    def rect(
        self,
        x0: float,
        y0: float,
        x1: float,
        y1: float,
        colour: tuple[float, ...] | None = None,
        depth: float | None = None,
    ) -> Painter:
        self.place(x0, y0, x1, y1)
        if colour is not None:
            self.set("colour", *colour)
        if depth is not None:
            self.set("depth", depth)
        return self.draw()


def unit_square() -> int:
    """A vertex array with the corners of a unit square as attribute 0, bound."""
    return vertex_array(np.array([0, 0, 1, 0, 0, 1, 1, 1]))


def vertex_array(points: np.ndarray) -> int:
    """A vertex array with points of two numbers as attribute 0, bound."""
    array = int(GL.glGenVertexArrays(1))
    GL.glBindVertexArray(array)
    corners(points)
    GL.glEnableVertexAttribArray(0)
    return array


def corners(points: np.ndarray) -> None:
    """Other points, two numbers each, as attribute 0 of the vertex array that is bound."""
    data = np.ascontiguousarray(points, np.float32)
    GL.glBindBuffer(GL.GL_ARRAY_BUFFER, int(GL.glGenBuffers(1)))
    GL.glBufferData(GL.GL_ARRAY_BUFFER, data.nbytes, data, GL.GL_STATIC_DRAW)
    GL.glVertexAttribPointer(0, 2, GL.GL_FLOAT, False, 8, None)


def fan(count: int) -> np.ndarray:
    """Triangles of a circle round 0 with radius 1, shape (count, 3, 2)."""
    angles = np.linspace(0, 2 * np.pi, count + 1)
    rim = np.stack([np.cos(angles), np.sin(angles)], axis=1)
    return np.stack([np.zeros_like(rim[:-1]), rim[:-1], rim[1:]], axis=1)


def texture(
    width: int = WIDTH, height: int = HEIGHT, pixels: np.ndarray | None = None, internal: int = GL.GL_RGBA8
) -> int:
    """A texture without levels, nearest; bound to the active unit."""
    name = int(GL.glGenTextures(1))
    GL.glBindTexture(GL.GL_TEXTURE_2D, name)
    GL.glTexStorage2D(GL.GL_TEXTURE_2D, 1, internal, width, height)
    if pixels is not None:
        GL.glTexSubImage2D(
            GL.GL_TEXTURE_2D,
            0,
            0,
            0,
            width,
            height,
            GL.GL_RGBA,
            GL.GL_UNSIGNED_BYTE,
            np.ascontiguousarray(pixels, np.uint8),
        )
    for parameter, value in ((GL.GL_TEXTURE_MIN_FILTER, GL.GL_NEAREST), (GL.GL_TEXTURE_MAG_FILTER, GL.GL_NEAREST)):
        GL.glTexParameteri(GL.GL_TEXTURE_2D, parameter, value)
    return name


def noise(width: int, height: int, seed: int = 1) -> np.ndarray:
    return np.random.default_rng(seed).integers(0, 256, (height, width, 4)).astype(np.uint8)


def target(
    width: int = WIDTH, height: int = HEIGHT, depth: bool = False, internal: int = GL.GL_RGBA8
) -> tuple[int, int]:
    """(framebuffer, texture) that it draws into; bound to nothing afterwards."""
    colour = texture(width, height, internal=internal)
    framebuffer = int(GL.glGenFramebuffers(1))
    GL.glBindFramebuffer(GL.GL_FRAMEBUFFER, framebuffer)
    GL.glFramebufferTexture2D(GL.GL_FRAMEBUFFER, GL.GL_COLOR_ATTACHMENT0, GL.GL_TEXTURE_2D, colour, 0)
    if depth:
        buffer = int(GL.glGenRenderbuffers(1))
        GL.glBindRenderbuffer(GL.GL_RENDERBUFFER, buffer)
        GL.glRenderbufferStorage(GL.GL_RENDERBUFFER, GL.GL_DEPTH24_STENCIL8, width, height)
        GL.glFramebufferRenderbuffer(GL.GL_FRAMEBUFFER, GL.GL_DEPTH_STENCIL_ATTACHMENT, GL.GL_RENDERBUFFER, buffer)
    assert GL.glCheckFramebufferStatus(GL.GL_FRAMEBUFFER) == GL.GL_FRAMEBUFFER_COMPLETE
    GL.glBindFramebuffer(GL.GL_FRAMEBUFFER, 0)
    GL.glBindTexture(GL.GL_TEXTURE_2D, 0)
    return framebuffer, colour


def onto(framebuffer: int, width: int = WIDTH, height: int = HEIGHT) -> None:
    GL.glBindFramebuffer(GL.GL_FRAMEBUFFER, framebuffer)
    GL.glViewport(0, 0, width, height)


def clear(*colour: float, depth: bool = False) -> None:
    GL.glClearColor(*(colour or (0.1, 0.2, 0.3, 1.0)))
    GL.glClear(GL.GL_COLOR_BUFFER_BIT | (GL.GL_DEPTH_BUFFER_BIT if depth else 0))
