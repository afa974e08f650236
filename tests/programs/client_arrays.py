"""Vertices and indices in client memory: fixed arrays, generic arrays, in display lists, several draws in a call."""

from __future__ import annotations

import ctypes
import sys

import numpy as np
from _linking import link
from _running import compatibility, es, forever
from OpenGL import GL

VERTEX = {
    "110": (
        "#version 110\nattribute vec2 place; attribute vec3 tint; varying vec3 c; void main() { c = tint; gl_Position ="
        " vec4(place, 0.0, 1.0); }"
    ),
    "100": (
        "#version 100\nattribute vec2 place; attribute vec3 tint; varying mediump vec3 c; void main() { c = tint;"
        " gl_Position = vec4(place, 0.0, 1.0); }"
    ),
}
FRAGMENT = {
    "110": "#version 110\nvarying vec3 c; void main() { gl_FragColor = vec4(c, 1.0); }",
    "100": "#version 100\nvarying mediump vec3 c; void main() { gl_FragColor = vec4(c, 1.0); }",
}
kept: list[object] = []


def pointer(array: np.ndarray) -> ctypes.c_void_p:
    kept.append(array)
    del kept[:-64]
    return ctypes.c_void_p(array.ctypes.data)


def ring(count: int, size: float, turn: float) -> np.ndarray:
    angles = np.linspace(0, 2 * np.pi, count, endpoint=False) + turn
    return np.ascontiguousarray(np.stack([np.cos(angles), np.sin(angles)], 1) * size, np.float32)


def main() -> None:
    kind = sys.argv[1] if len(sys.argv) > 1 else "compatibility"
    context = es(2, 0) if kind == "es" else compatibility()
    version = "100" if kind == "es" else "110"
    program = link({GL.GL_VERTEX_SHADER: VERTEX[version], GL.GL_FRAGMENT_SHADER: FRAGMENT[version]})
    place, tint = GL.glGetAttribLocation(program, b"place"), GL.glGetAttribLocation(program, b"tint")
    colors = np.random.default_rng(4).random((256, 3)).astype(np.float32)

    def generic(number: int) -> None:
        points = ring(60, 0.9, number * 0.1)
        GL.glUseProgram(program)
        GL.glEnableVertexAttribArray(place)
        GL.glEnableVertexAttribArray(tint)
        GL.glVertexAttribPointer(place, 2, GL.GL_FLOAT, False, 0, pointer(points))
        GL.glVertexAttribPointer(tint, 3, GL.GL_FLOAT, False, 12, pointer(colors))
        GL.glDrawArrays(GL.GL_TRIANGLES, 3, 30)
        GL.glDrawElements(
            GL.GL_TRIANGLES, 6, GL.GL_UNSIGNED_SHORT, pointer(np.array([40, 59, 33, 35, 50, 41], np.uint16))
        )
        GL.glDisableVertexAttribArray(place)
        GL.glDisableVertexAttribArray(tint)
        GL.glUseProgram(0)

    def fixed(number: int) -> None:
        points = ring(40, 0.5, -number * 0.07)
        GL.glEnableClientState(GL.GL_VERTEX_ARRAY)
        GL.glEnableClientState(GL.GL_COLOR_ARRAY)
        GL.glVertexPointer(2, GL.GL_FLOAT, 0, pointer(points))
        GL.glColorPointer(3, GL.GL_FLOAT, 0, pointer(colors))
        GL.glDrawArrays(GL.GL_QUADS, 4, 12)
        counts, firsts = np.array([3, 6], np.int32), np.array([20, 30], np.int32)
        GL.glMultiDrawArrays(GL.GL_TRIANGLES, firsts, counts, 2)
        first, second = np.array([0, 5, 9], np.uint16), np.array([2, 8, 12, 1, 3, 38], np.uint16)
        starts = (ctypes.c_void_p * 2)(first.ctypes.data, second.ctypes.data)
        GL.glMultiDrawElements(GL.GL_TRIANGLES, np.array([3, 6], np.int32), GL.GL_UNSIGNED_SHORT, starts, 2)
        GL.glDisableClientState(GL.GL_COLOR_ARRAY)
        GL.glColor3f(1, 1, 1)
        GL.glCallList(3)
        mixed = np.zeros(4, [("color", np.uint8, 4), ("place", np.float32, 3)])
        mixed["color"], mixed["place"][:, :2] = (250, 120, 10, 255), ring(4, 0.15, number)
        GL.glInterleavedArrays(GL.GL_C4UB_V3F, 0, pointer(mixed))
        GL.glDrawArrays(GL.GL_TRIANGLE_FAN, 0, 4)
        GL.glDisableClientState(GL.GL_VERTEX_ARRAY)
        GL.glDisableClientState(GL.GL_COLOR_ARRAY)

    def make_list() -> None:
        GL.glEnableClientState(GL.GL_VERTEX_ARRAY)
        GL.glVertexPointer(2, GL.GL_FLOAT, 0, pointer(ring(24, 0.95, 0.4)))
        GL.glNewList(3, GL.GL_COMPILE)
        GL.glDrawArrays(GL.GL_LINE_LOOP, 0, 24)
        GL.glDrawElements(GL.GL_LINES, 4, GL.GL_UNSIGNED_BYTE, bytes((0, 12, 6, 18)))
        GL.glEndList()
        buffer = GL.glGenBuffers(1)
        GL.glBindBuffer(GL.GL_ARRAY_BUFFER, buffer)
        GL.glBufferData(GL.GL_ARRAY_BUFFER, 96, ring(12, 0.7, 0.1), GL.GL_STATIC_DRAW)
        GL.glVertexPointer(2, GL.GL_FLOAT, 0, ctypes.c_void_p(0))
        GL.glNewList(3 + 1, GL.GL_COMPILE)
        GL.glDrawArrays(GL.GL_LINE_STRIP, 0, 12)
        GL.glEndList()
        GL.glBindBuffer(GL.GL_ARRAY_BUFFER, 0)
        GL.glDeleteBuffers(1, [buffer])
        GL.glDisableClientState(GL.GL_VERTEX_ARRAY)

    if kind != "es":
        make_list()

    def draw(number: int) -> None:
        GL.glClearColor(0.1, 0.1, 0.2, 1)
        GL.glClear(GL.GL_COLOR_BUFFER_BIT | GL.GL_DEPTH_BUFFER_BIT)
        generic(number)
        if kind != "es":
            fixed(number)
            GL.glCallList(4)

    forever(context, draw)


if __name__ == "__main__":
    main()
