"""Draws a frame with one flaw of each kind in it, or, with `--clean`, the same picture without them.

With `--prepass` a depth-only pre-pass comes before the clean one.
"""

from __future__ import annotations

import itertools
import sys

import numpy as np
from _linking import link
from _running import SIZE, core, forever
from OpenGL import GL

VERTEX = """#version 330
layout(location = 0) in vec3 position; layout(location = 1) in vec2 spare; uniform vec4 place;
void main() { gl_Position = vec4(position.xy * place.zw + place.xy, position.z, 1.0); }
"""
COLOUR = "#version 330\nuniform vec4 colour; out vec4 result; void main() { result = colour; }\n"
HOLES = (
    "#version 330\nuniform vec4 colour; out vec4 result; void main() { if (int(gl_FragCoord.x) % 8 == 0) discard;"
    " result = colour; }\n"
)
COPY = (
    "#version 330\nuniform sampler2D from; out vec4 result; void main() { result = texelFetch(from,"
    " ivec2(gl_FragCoord.xy), 0); }\n"
)
PREPASS = "--prepass" in sys.argv
CLEAN = "--clean" in sys.argv or PREPASS


def grid(cells: int) -> np.ndarray:
    """A square of two triangles a cell."""
    corners = np.linspace(-1, 1, cells + 1)
    rows = []
    for y0, y1 in itertools.pairwise(corners):
        for x0, x1 in itertools.pairwise(corners):
            rows += [(x0, y0), (x1, y0), (x1, y1), (x0, y0), (x1, y1), (x0, y1)]
    return np.array(rows, np.float32)


class Drawer:
    def __init__(self) -> None:
        self.plain = link({GL.GL_VERTEX_SHADER: VERTEX, GL.GL_FRAGMENT_SHADER: COLOUR})
        self.holes = link({GL.GL_VERTEX_SHADER: VERTEX, GL.GL_FRAGMENT_SHADER: HOLES})
        self.copy = link({GL.GL_VERTEX_SHADER: VERTEX, GL.GL_FRAGMENT_SHADER: COPY})
        square, fine = grid(1), grid(60)
        doubled = np.concatenate([square, square, np.zeros((36, 2), np.float32)])  # twice, and twelve without area
        self.ranges: dict[str, tuple[int, int]] = {}
        at, parts = 0, []
        for name, points in (("square", square), ("fine", fine), ("doubled", doubled)):
            self.ranges[name] = (at, len(points))
            at += len(points)
            parts.append(np.hstack([points, np.zeros((len(points), 3), np.float32)]))
        data = np.vstack(parts).astype(np.float32)
        GL.glBindVertexArray(GL.glGenVertexArrays(1))
        GL.glBindBuffer(GL.GL_ARRAY_BUFFER, GL.glGenBuffers(1))
        GL.glBufferData(GL.GL_ARRAY_BUFFER, data.nbytes, data, GL.GL_STATIC_DRAW)
        GL.glVertexAttribPointer(0, 3, GL.GL_FLOAT, False, 20, None)
        GL.glEnableVertexAttribArray(0)
        if not CLEAN:
            GL.glVertexAttribPointer(1, 2, GL.GL_FLOAT, False, 20, None)
            GL.glEnableVertexAttribArray(1)
        self.targets = [self.target() for _ in range(2)]

    def target(self) -> tuple[int, int]:
        texture, framebuffer, depth = (
            int(GL.glGenTextures(1)),
            int(GL.glGenFramebuffers(1)),
            int(GL.glGenRenderbuffers(1)),
        )
        GL.glBindTexture(GL.GL_TEXTURE_2D, texture)
        GL.glTexStorage2D(GL.GL_TEXTURE_2D, 1, GL.GL_RGBA8, *SIZE)
        GL.glTexParameteri(GL.GL_TEXTURE_2D, GL.GL_TEXTURE_MIN_FILTER, GL.GL_NEAREST)
        GL.glBindRenderbuffer(GL.GL_RENDERBUFFER, depth)
        GL.glRenderbufferStorage(GL.GL_RENDERBUFFER, GL.GL_DEPTH_COMPONENT24, *SIZE)
        GL.glBindFramebuffer(GL.GL_FRAMEBUFFER, framebuffer)
        GL.glFramebufferTexture2D(GL.GL_FRAMEBUFFER, GL.GL_COLOR_ATTACHMENT0, GL.GL_TEXTURE_2D, texture, 0)
        GL.glFramebufferRenderbuffer(GL.GL_FRAMEBUFFER, GL.GL_DEPTH_ATTACHMENT, GL.GL_RENDERBUFFER, depth)
        return texture, framebuffer

    def draw(
        self,
        mesh: str,
        place: tuple[float, float, float, float],
        depth: float,
        colour: tuple[float, float, float, float],
        program: int = 0,
    ) -> None:
        program = program or self.plain
        GL.glUseProgram(program)
        GL.glDepthRange(depth, depth)
        GL.glUniform4f(GL.glGetUniformLocation(program, "place"), *place)
        GL.glUniform4f(GL.glGetUniformLocation(program, "colour"), *colour)
        GL.glDrawArrays(GL.GL_TRIANGLES, *self.ranges[mesh])

    def __call__(self, _number: int) -> None:
        scene, unread = self.targets
        GL.glViewport(0, 0, *SIZE)
        GL.glDepthMask(1)
        GL.glEnable(GL.GL_DEPTH_TEST)
        GL.glDepthFunc(GL.GL_LEQUAL)
        GL.glDisable(GL.GL_BLEND)
        if not CLEAN:
            GL.glBindFramebuffer(GL.GL_FRAMEBUFFER, unread[1])
            GL.glClear(GL.GL_COLOR_BUFFER_BIT | GL.GL_DEPTH_BUFFER_BIT)
            self.draw("square", (0, 0, 1, 1), 0.5, (1, 0, 1, 1))
        GL.glBindFramebuffer(GL.GL_FRAMEBUFFER, scene[1])
        GL.glClear(GL.GL_DEPTH_BUFFER_BIT if CLEAN else GL.GL_COLOR_BUFFER_BIT | GL.GL_DEPTH_BUFFER_BIT)
        order = [(0.9 - 0.1 * i, (i / 8, 1 - i / 8, 0.5, 1)) for i in range(6)]
        # from the back to the front, each a little smaller and shifted
        places = [(0.05 * i, 0.0, 1.0 - 0.05 * i, 1.0 - 0.05 * i) for i in range(6)]
        both = list(zip(places, order, strict=True))
        if PREPASS:
            GL.glColorMask(0, 0, 0, 0)
            for place, (depth, colour) in both:
                self.draw("square", place, depth, colour)
            GL.glColorMask(1, 1, 1, 1)
            GL.glDepthMask(0)
            GL.glDepthFunc(GL.GL_EQUAL)
            for place, (depth, colour) in both:
                self.draw("square", place, depth, colour)
            GL.glDepthMask(1)
            GL.glDepthFunc(GL.GL_LEQUAL)
        for place, (depth, colour) in [] if PREPASS else reversed(both) if CLEAN else both:
            self.draw("square", place, depth, colour)
        if CLEAN:
            self.draw("square", (0.7, 0.7, 0.04, 0.04), 0.1, (1, 1, 0, 1))
        else:
            self.draw("square", (0.2, 0.0, 0.3, 0.3), 0.95, (1, 0, 0, 1))  # behind everything
            self.draw("square", (0.4, 0.2, 0.5, 0.5), 0.85, (0, 0, 1, 1), self.holes)  # shaded first, then rejected
            self.draw("square", (3.0, 0.0, 0.5, 0.5), 0.2, (1, 0, 0, 1))  # outside the view
            self.draw("doubled", (0.7, 0.7, 0.04, 0.04), 0.1, (1, 1, 0, 1))
            GL.glEnable(GL.GL_CULL_FACE)
            GL.glCullFace(GL.GL_FRONT)
            self.draw("square", (-0.5, 0.0, 0.2, 0.2), 0.05, (1, 0, 0, 1))  # faces away
            GL.glDisable(GL.GL_CULL_FACE)
        self.draw("square" if CLEAN else "fine", (-0.5, -0.5, 0.2, 0.2), 0.3, (0, 1, 1, 1))
        if not CLEAN:
            GL.glEnable(GL.GL_BLEND)
            GL.glBlendFunc(GL.GL_SRC_ALPHA, GL.GL_ONE_MINUS_SRC_ALPHA)
            GL.glDepthMask(0)
            self.draw("square", (0, 0, 1, 1), 0.02, (1, 1, 1, 0))  # a sheet that shows nothing
            GL.glDisable(GL.GL_BLEND)
            GL.glDepthMask(1)
        GL.glBindFramebuffer(GL.GL_FRAMEBUFFER, 0)
        GL.glDisable(GL.GL_DEPTH_TEST)
        GL.glBindTexture(GL.GL_TEXTURE_2D, scene[0])
        GL.glUseProgram(self.copy)
        GL.glUniform1i(GL.glGetUniformLocation(self.copy, "from"), 0)
        GL.glUniform4f(GL.glGetUniformLocation(self.copy, "place"), 0, 0, 1, 1)
        GL.glDrawArrays(GL.GL_TRIANGLES, *self.ranges["square"])


if __name__ == "__main__":
    forever(core(), Drawer())
