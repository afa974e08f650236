"""One context that draws into two windows in turn; textures go from one frame to the other."""

from __future__ import annotations

from _running import core, forever
from _sharing import SecondWindow
from OpenGL import GL


def main() -> None:
    context = core()
    second = SecondWindow(context, 64, 48)

    def draw(number: int) -> None:
        second.begin()
        GL.glDisable(GL.GL_SCISSOR_TEST)
        GL.glClearColor(0.9, 0.1, number % 3 / 3, 1)
        GL.glClear(GL.GL_COLOR_BUFFER_BIT)
        GL.glViewport(0, 0, 64, 48)
        second.end()
        GL.glEnable(GL.GL_SCISSOR_TEST)
        for i in range(20):
            GL.glScissor(i * 8, (i * 13 + number * 3) % 100, 20, 12)
            GL.glClearColor(i / 20, number % 7 / 7, 0.5, 1)
            GL.glClear(GL.GL_COLOR_BUFFER_BIT)

    forever(context, draw)


if __name__ == "__main__":
    main()
