"""A program that makes life hard for whoever looks on: it forks, replaces itself, deletes its context, changes
threads.
"""

from __future__ import annotations

import os
import sys
import threading
import time

import _running
from OpenGL import GL

FRAMES = 120


def draw(number: int) -> None:
    GL.glEnable(GL.GL_SCISSOR_TEST)
    for i in range(16):
        GL.glScissor(i * 9, (i * 11 + number) % 100, 12, 14)
        GL.glClearColor(i / 16, number % 10 / 10, 0.3, 1)
        GL.glClear(GL.GL_COLOR_BUFFER_BIT)
    time.sleep(0.01)


def plain(frames: int) -> None:
    context = _running.core()
    for number in range(frames):
        draw(number)
        context.swap()


def forks() -> None:
    if os.fork() == 0:  # the child draws as well, with a context of its own
        plain(FRAMES // 2)
        os._exit(0)
    plain(FRAMES)
    os.wait()


def pauses() -> None:
    """Draws 20 frames, nothing for a while, and 20 more."""
    context = _running.core()
    for number in range(40):
        if number == 20:
            time.sleep(5.0)
        draw(number)
        context.swap()


def forks_while_drawing() -> None:
    context = _running.core()
    for number in range(FRAMES):
        draw(number)
        if number % 10 == 3 and os.fork() == 0:
            os._exit(0)
        context.swap()


def replaces_itself() -> None:
    plain(10)
    os.execv(sys.executable, [sys.executable, __file__, "plain"])


def starts_a_child_that_draws() -> None:
    import subprocess

    raise SystemExit(subprocess.run([sys.executable, __file__, "plain"], check=False).returncode)


def deletes_its_context() -> None:
    for _ in range(FRAMES // 8):
        context = _running.core()
        for number in range(8):
            draw(number)
            if number < 7:
                context.swap()
        context.close()  # in the middle of a frame


def changes_threads() -> None:
    context = _running.core()
    egl = context._egl
    handle, display, surface = context._context, context._display, context._surface

    def one(number: int) -> None:
        egl.eglMakeCurrent(display, surface, surface, handle)
        draw(number)
        context.swap()
        egl.eglMakeCurrent(display, None, None, None)

    egl.eglMakeCurrent(display, None, None, None)
    for number in range(FRAMES):
        worker = threading.Thread(target=one, args=(number,))
        worker.start()
        worker.join()


def main() -> None:
    kind = sys.argv[1]
    plain(FRAMES) if kind == "plain" else globals()[kind]()
    print("all frames drawn", flush=True)


if __name__ == "__main__":
    main()
