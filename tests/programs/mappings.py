"""Writes vertices through mapped buffers in every way there is."""

from __future__ import annotations

import ctypes

import numpy as np
from _linking import make_program
from _running import core, forever
from OpenGL import GL

VERTEX = """#version 450 core
layout(location = 0) in vec3 place; out vec3 c;
void main() { c = vec3(place.z, 1.0 - place.z, fract(place.x * 3.0)); gl_Position = vec4(place.xy, 0.0, 1.0); }"""
FRAGMENT = "#version 450 core\nin vec3 c; out vec4 color; void main() { color = vec4(c, 1.0); }"
PERSISTENT = GL.GL_MAP_WRITE_BIT | GL.GL_MAP_PERSISTENT_BIT | GL.GL_MAP_COHERENT_BIT
SIZE = 3 * 12 * 8


def triangles(number: int, row: int) -> bytes:
    random = np.random.default_rng(number * 16 + row)
    at = np.stack([random.random(24) * 1.8 - 0.9, random.random(24) * 0.3 + row * 0.35 - 0.95, random.random(24)], 1)
    return at.astype(np.float32).tobytes()[:SIZE]


def write(address: int, data: bytes) -> None:
    ctypes.memmove(address, data, len(data))


def main() -> None:
    context = core()
    GL.glUseProgram(make_program(VERTEX, FRAGMENT))
    GL.glBindVertexArray(GL.glGenVertexArrays(1))
    GL.glEnableVertexAttribArray(0)
    coherent, explicit, held, plain = (int(b) for b in GL.glGenBuffers(4))
    GL.glBindBuffer(GL.GL_ARRAY_BUFFER, coherent)
    GL.glBufferStorage(GL.GL_ARRAY_BUFFER, SIZE * 2, None, PERSISTENT)
    coherent_at = GL.glMapBufferRange(GL.GL_ARRAY_BUFFER, 0, SIZE * 2, PERSISTENT)
    GL.glBindBuffer(GL.GL_ARRAY_BUFFER, explicit)
    GL.glBufferData(GL.GL_ARRAY_BUFFER, SIZE, None, GL.GL_DYNAMIC_DRAW)
    GL.glBindBuffer(GL.GL_ARRAY_BUFFER, held)
    GL.glBufferData(GL.GL_ARRAY_BUFFER, SIZE, triangles(0, 2), GL.GL_DYNAMIC_DRAW)
    held_at = GL.glMapBufferRange(GL.GL_ARRAY_BUFFER, 0, SIZE, GL.GL_MAP_WRITE_BIT)
    GL.glBindBuffer(GL.GL_ARRAY_BUFFER, plain)
    GL.glBufferData(GL.GL_ARRAY_BUFFER, SIZE, None, GL.GL_STREAM_DRAW)

    def show(buffer: int, offset: int = 0) -> None:
        GL.glBindBuffer(GL.GL_ARRAY_BUFFER, buffer)
        GL.glVertexAttribPointer(0, 3, GL.GL_FLOAT, False, 12, ctypes.c_void_p(offset))
        GL.glDrawArrays(GL.GL_TRIANGLES, 0, SIZE // 12)

    def draw(number: int) -> None:
        nonlocal held_at
        GL.glClearColor(0.05, 0.05, 0.1, 1)
        GL.glClear(GL.GL_COLOR_BUFFER_BIT)
        write(coherent_at, triangles(number, 0))
        show(coherent)
        # the same place again needs a wait; another place does not
        write(coherent_at + SIZE, triangles(number, 1))
        show(coherent, SIZE)
        fence = GL.glFenceSync(GL.GL_SYNC_GPU_COMMANDS_COMPLETE, 0)
        GL.glClientWaitSync(fence, GL.GL_SYNC_FLUSH_COMMANDS_BIT, 10**9)
        GL.glDeleteSync(fence)
        write(coherent_at, triangles(number, 4))
        show(coherent)
        GL.glBindBuffer(GL.GL_ARRAY_BUFFER, explicit)
        at = GL.glMapBufferRange(
            GL.GL_ARRAY_BUFFER,
            0,
            SIZE,
            GL.GL_MAP_WRITE_BIT | GL.GL_MAP_FLUSH_EXPLICIT_BIT | GL.GL_MAP_INVALIDATE_BUFFER_BIT,
        )
        write(at, triangles(number, 2))
        GL.glFlushMappedBufferRange(GL.GL_ARRAY_BUFFER, 0, SIZE)
        GL.glUnmapBuffer(GL.GL_ARRAY_BUFFER)
        show(explicit)
        # mapped in the frame before, unmapped in this one, and mapped again
        write(held_at, triangles(number, 3))
        GL.glBindBuffer(GL.GL_ARRAY_BUFFER, held)
        GL.glUnmapBuffer(GL.GL_ARRAY_BUFFER)
        show(held)
        held_at = GL.glMapNamedBufferRange(held, 0, SIZE, GL.GL_MAP_WRITE_BIT)
        GL.glBindBuffer(GL.GL_ARRAY_BUFFER, plain)
        write(GL.glMapBuffer(GL.GL_ARRAY_BUFFER, GL.GL_WRITE_ONLY), triangles(number, 5))
        GL.glUnmapBuffer(GL.GL_ARRAY_BUFFER)
        show(plain)
        # a mapping made in the frame that stays while it is drawn from
        again = GL.glGenBuffers(1)
        GL.glBindBuffer(GL.GL_ARRAY_BUFFER, again)
        GL.glBufferStorage(GL.GL_ARRAY_BUFFER, SIZE, None, PERSISTENT)
        write(GL.glMapBufferRange(GL.GL_ARRAY_BUFFER, 0, SIZE, PERSISTENT), triangles(number, 6))
        show(again)
        GL.glDeleteBuffers(1, [again])

    forever(context, draw)


if __name__ == "__main__":
    main()
