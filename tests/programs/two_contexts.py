"""Two contexts that share objects and take turns within a frame, in one thread.

Each has state of its own that it sets once, before the first frame, and objects of the same names. Without an argument
both are core contexts; with `fixed` both draw with the fixed-function pipeline, matrices and lists; with `core-fixed`
the second does, in a frame of a core context.
"""

from __future__ import annotations

import struct
import sys

from _linking import make_program
from _running import compatibility, core
from _sharing import SharedContext

from OpenGL import GL  # isort: skip

VERTEX = """#version 330 core
layout(location = 0) in vec2 place; out vec2 at; uniform vec4 box;
void main() { at = place * 0.5 + 0.5; gl_Position = vec4(box.xy + place * box.zw, 0.25, 1.0); }"""
FRAGMENT = """#version 330 core
in vec2 at; out vec4 colour; uniform sampler2D picture; uniform vec4 tint;
void main() { colour = texture(picture, at * 1.5) * tint; }"""


def target(size: int) -> tuple[int, int]:
    texture = GL.glGenTextures(1)
    GL.glBindTexture(GL.GL_TEXTURE_2D, texture)
    GL.glTexImage2D(GL.GL_TEXTURE_2D, 0, GL.GL_RGBA8, size, size, 0, GL.GL_RGBA, GL.GL_UNSIGNED_BYTE, None)
    for name, value in ((GL.GL_TEXTURE_MIN_FILTER, GL.GL_LINEAR), (GL.GL_TEXTURE_WRAP_S, GL.GL_REPEAT)):
        GL.glTexParameteri(GL.GL_TEXTURE_2D, name, value)
    framebuffer = GL.glGenFramebuffers(1)
    GL.glBindFramebuffer(GL.GL_FRAMEBUFFER, framebuffer)
    GL.glFramebufferTexture2D(GL.GL_FRAMEBUFFER, GL.GL_COLOR_ATTACHMENT0, GL.GL_TEXTURE_2D, texture, 0)
    return texture, framebuffer


def quad(corners: list[float]) -> None:
    array = GL.glGenVertexArrays(1)
    GL.glBindVertexArray(array)
    GL.glBindBuffer(GL.GL_ARRAY_BUFFER, GL.glGenBuffers(1))
    data = struct.pack("<8f", *corners)
    GL.glBufferData(GL.GL_ARRAY_BUFFER, len(data), data, GL.GL_STATIC_DRAW)
    GL.glEnableVertexAttribArray(0)
    GL.glVertexAttribPointer(0, 2, GL.GL_FLOAT, False, 0, None)


def draw(use: int, box: tuple[float, ...], tint: tuple[float, ...]) -> None:
    GL.glUniform4f(GL.glGetUniformLocation(use, b"box"), *box)
    GL.glUniform4f(GL.glGetUniformLocation(use, b"tint"), *tint)
    GL.glDrawArrays(GL.GL_TRIANGLE_STRIP, 0, 4)


def shaders() -> None:
    first = core()
    second = SharedContext(first, "core", (16, 16))
    use = make_program(VERTEX, FRAGMENT)
    shown, own = target(32)
    GL.glUseProgram(use)
    GL.glBindFramebuffer(GL.GL_FRAMEBUFFER, 0)
    quad([-1, -1, 1, -1, -1, 1, 1, 1])
    GL.glEnable(GL.GL_BLEND)
    GL.glBlendFunc(GL.GL_ONE, GL.GL_ONE)
    GL.glClearColor(0.1, 0.2, 0.3, 1)
    GL.glViewport(0, 0, 160, 120)
    second.make_current()
    other = make_program(VERTEX, FRAGMENT)
    stripes, into = target(24)
    GL.glUseProgram(other)
    quad([-1, -1, 0.9, -0.8, -0.7, 1, 1, 1])
    GL.glViewport(0, 0, 20, 22)
    GL.glEnable(GL.GL_SCISSOR_TEST)
    GL.glScissor(2, 3, 17, 18)
    GL.glClearColor(0.6, 0.1, 0.5, 1)
    GL.glColorMask(True, True, False, True)
    GL.glBindTexture(GL.GL_TEXTURE_2D, shown)
    first.make_current()
    print("framebuffers", own, into, "textures", shown, stripes, flush=True)
    frame = 0
    while True:
        GL.glBindTexture(GL.GL_TEXTURE_2D, stripes)
        GL.glClear(GL.GL_COLOR_BUFFER_BIT)
        for turn in range(3):
            second.make_current()
            GL.glClear(GL.GL_COLOR_BUFFER_BIT)
            if turn == 1:
                GL.glDisable(GL.GL_SCISSOR_TEST)
            draw(other, (0.1 * turn, 0.0, 0.8, 0.7), (1.0, frame % 7 / 7, 1.0, 0.5))
            if turn == 2:
                GL.glEnable(GL.GL_SCISSOR_TEST)
            GL.glFlush()
            first.make_current()
            if turn == 0:
                GL.glBindFramebuffer(GL.GL_FRAMEBUFFER, own)
                GL.glClear(GL.GL_COLOR_BUFFER_BIT)
                draw(use, (0, 0, 0.2, 0.2), (0.3, 0.9, 0.4, 1.0))
                GL.glBindFramebuffer(GL.GL_FRAMEBUFFER, 0)
            draw(use, (turn * 0.5 - 0.5, frame % 5 * 0.1, 0.4, 0.4), (0.5, 0.4, 0.9, 1.0))
        first.swap()
        frame += 1


def fixed(profile: str) -> None:
    first = core() if profile == "core" else compatibility()
    second = SharedContext(first, "compatibility", (16, 16))
    texture, _ = target(64)
    GL.glBindFramebuffer(GL.GL_FRAMEBUFFER, 0)
    use = make_program(VERTEX, FRAGMENT)
    if profile == "compatibility":
        GL.glMatrixMode(GL.GL_PROJECTION)
        GL.glOrtho(-2, 2, -1, 1, -1, 1)
        GL.glMatrixMode(GL.GL_MODELVIEW)
        GL.glEnable(GL.GL_TEXTURE_2D)
        GL.glColor3f(0.9, 0.8, 0.2)
    else:
        GL.glUseProgram(use)
        quad([-1, -1, 1, -1, -1, 1, 1, 1])
    GL.glBindTexture(GL.GL_TEXTURE_2D, texture)
    second.make_current()
    made = GL.glGenFramebuffers(1)
    GL.glBindFramebuffer(GL.GL_FRAMEBUFFER, made)
    GL.glFramebufferTexture2D(GL.GL_FRAMEBUFFER, GL.GL_COLOR_ATTACHMENT0, GL.GL_TEXTURE_2D, texture, 0)
    GL.glViewport(0, 0, 64, 64)
    GL.glMatrixMode(GL.GL_PROJECTION)
    GL.glRotatef(20, 0, 0, 1)
    GL.glMatrixMode(GL.GL_MODELVIEW)
    GL.glEnable(GL.GL_LIGHTING)
    GL.glEnable(GL.GL_LIGHT0)
    GL.glEnable(GL.GL_COLOR_MATERIAL)
    GL.glColor3f(0.2, 0.9, 0.6)
    GL.glNewList(7, GL.GL_COMPILE)
    GL.glRectf(-0.5, -0.2, 0.5, 0.4)
    GL.glEndList()
    first.make_current()
    frame = 0
    while True:
        GL.glClear(GL.GL_COLOR_BUFFER_BIT)
        for turn in range(2):
            second.make_current()
            GL.glClearColor(turn * 0.5, 0.3, 0.2, 1)
            GL.glClear(GL.GL_COLOR_BUFFER_BIT)
            GL.glRotatef(15, 0, 0, 1)
            GL.glCallList(7)
            GL.glBegin(GL.GL_TRIANGLES)
            for x, y in ((0, 0), (0.8, 0.1), (0.1, 0.9)):
                GL.glVertex2f(x, y)
            GL.glEnd()
            first.make_current()
            if profile == "compatibility":
                GL.glTranslatef(0.1, 0, 0)
                GL.glBegin(GL.GL_TRIANGLE_FAN)
                for x, y in ((-1, -1), (1, -1), (1, 1), (-1, 1)):
                    GL.glTexCoord2f(x, y)
                    GL.glVertex2f(x * 0.4 + turn - 0.5, y * 0.4)
                GL.glEnd()
            else:
                draw(use, (turn - 0.5, 0, 0.4, 0.4), (1.0, 1.0, 1.0, 1.0))
        if profile == "compatibility":
            GL.glLoadIdentity()
        first.swap()
        frame += 1


if __name__ == "__main__":
    mode = sys.argv[1] if len(sys.argv) > 1 else ""
    if mode:
        fixed("core" if mode == "core-fixed" else "compatibility")
    else:
        shaders()
