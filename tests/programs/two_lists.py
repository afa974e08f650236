"""One context that draws a list of rows into each of two windows."""

from __future__ import annotations

from _linking import make_program
from _running import SIZE, core, forever
from _sharing import SecondWindow
from OpenGL import GL

ROWS = 12
VERTEX = """#version 330
uniform vec4 rect;
void main() {
    vec2 corner = vec2(gl_VertexID & 1, gl_VertexID >> 1);
    gl_Position = vec4(mix(rect.xy, rect.zw, corner), 0.0, 1.0);
}
"""
FLAT = "#version 330\nuniform vec4 colour;\nout vec4 result;\nvoid main() { result = colour; }\n"
FADED = "#version 330\nuniform vec4 colour;\nout vec4 result;\nvoid main() { result = colour.bgra * 0.7; }\n"


def main() -> None:
    context = core()
    second = SecondWindow(context, 64, 48)
    programs = [make_program(VERTEX, fragment) for fragment in (FLAT, FADED)]
    places = [[GL.glGetUniformLocation(p, name) for name in ("rect", "colour")] for p in programs]
    GL.glBindVertexArray(GL.glGenVertexArrays(1))
    GL.glEnable(GL.GL_BLEND)
    GL.glBlendFunc(GL.GL_SRC_ALPHA, GL.GL_ONE_MINUS_SRC_ALPHA)

    def rows(shade: float) -> None:
        GL.glClearColor(0.1, 0.1, 0.2, 1)
        GL.glClear(GL.GL_COLOR_BUFFER_BIT)
        for row in range(ROWS):
            x, y = -0.9 + row % 3 * 0.6, -0.9 + row // 3 * 0.45
            for kind, inset in enumerate((0.0, 0.1)):
                rect, colour = places[kind]
                GL.glUseProgram(programs[kind])
                GL.glUniform4f(rect, x + inset, y + inset, x + 0.5 - inset, y + 0.4 - inset)
                GL.glUniform4f(colour, row / ROWS, shade, 0.6, 0.8)
                GL.glDrawArrays(GL.GL_TRIANGLE_STRIP, 0, 4)

    def draw(_: int) -> None:
        second.begin()
        GL.glViewport(0, 0, 64, 48)
        rows(0.3)
        second.end()
        GL.glViewport(0, 0, *SIZE)
        rows(0.7)

    forever(context, draw)


if __name__ == "__main__":
    main()
