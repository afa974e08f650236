"""A thread that uploads pictures through its own context while the main one draws them.

The loader keeps state of its own (row length, a pixel buffer that stays mapped); pictures are handed over with a fence.
"""

from __future__ import annotations

import ctypes
import queue
import threading

from _linking import make_program
from _running import core
from _sharing import SharedContext
from two_contexts import FRAGMENT, VERTEX, draw, quad

from OpenGL import GL  # isort: skip

SIZE = 16


def load(context: SharedContext, wanted: queue.Queue[int], ready: queue.Queue[tuple[int, object]]) -> None:
    context.make_current()
    textures = list(GL.glGenTextures(4))
    for texture in textures:
        GL.glBindTexture(GL.GL_TEXTURE_2D, texture)
        GL.glTexImage2D(GL.GL_TEXTURE_2D, 0, GL.GL_RGBA8, SIZE, SIZE, 0, GL.GL_RGBA, GL.GL_UNSIGNED_BYTE, None)
        GL.glTexParameteri(GL.GL_TEXTURE_2D, GL.GL_TEXTURE_MIN_FILTER, GL.GL_NEAREST)
    GL.glPixelStorei(GL.GL_UNPACK_ROW_LENGTH, SIZE * 2)
    size = SIZE * SIZE * 8
    staging = GL.glGenBuffers(1)
    GL.glBindBuffer(GL.GL_PIXEL_UNPACK_BUFFER, staging)
    flags = GL.GL_MAP_WRITE_BIT | 0x0040 | 0x0080  # persistent, coherent
    GL.glBufferStorage(GL.GL_PIXEL_UNPACK_BUFFER, size, None, flags)
    memory = GL.glMapBufferRange(GL.GL_PIXEL_UNPACK_BUFFER, 0, size, flags)
    turn = 0
    while True:
        number = wanted.get()
        texture = textures[turn % len(textures)]
        turn += 1
        row = bytes((number * 40 + x * 9) % 256 for x in range(SIZE * 8))
        ctypes.memmove(ctypes.c_void_p(int(memory)), row * SIZE, size)
        GL.glBindTexture(GL.GL_TEXTURE_2D, texture)
        GL.glTexSubImage2D(
            GL.GL_TEXTURE_2D, 0, 0, 0, SIZE, SIZE, GL.GL_RGBA, GL.GL_UNSIGNED_BYTE, ctypes.c_void_p(turn % 8 * 4)
        )
        fence = GL.glFenceSync(GL.GL_SYNC_GPU_COMMANDS_COMPLETE, 0)
        GL.glFlush()
        GL.glClientWaitSync(fence, GL.GL_SYNC_FLUSH_COMMANDS_BIT, 1_000_000_000)  # the staging buffer is used again
        ready.put((texture, fence))


def main() -> None:
    first = core()
    second = SharedContext(first, "core", (16, 16))
    use = make_program(VERTEX, FRAGMENT)
    GL.glUseProgram(use)
    quad([-1, -1, 1, -1, -1, 1, 1, 1])
    wanted: queue.Queue[int] = queue.Queue()
    ready: queue.Queue[tuple[int, object]] = queue.Queue()
    threading.Thread(target=load, args=(second, wanted, ready), daemon=True).start()
    frame = 0
    while True:
        GL.glClear(GL.GL_COLOR_BUFFER_BIT)
        for i in range(3):
            wanted.put(frame * 3 + i)
        for i in range(3):
            texture, fence = ready.get()
            GL.glWaitSync(fence, 0, 0xFFFFFFFFFFFFFFFF)
            GL.glDeleteSync(fence)
            GL.glBindTexture(GL.GL_TEXTURE_2D, texture)
            draw(use, (i * 0.6 - 0.6, 0.1 * (frame % 4), 0.25, 0.5), (1.0, 1.0, 1.0, 1.0))
        first.swap()
        frame += 1


if __name__ == "__main__":
    main()
