"""Two contexts in two threads: one draws and swaps, the other makes calls of its own all the time.

With `--share` they share their objects.
"""

from __future__ import annotations

import ctypes
import os
import sys
import threading
import time

os.environ["PYOPENGL_PLATFORM"] = "egl"

import OpenGL

from wendascope.backends.opengl.context import PbufferContext
from wendascope.backends.opengl.objects.records import DefaultFramebuffer
from wendascope.frame.context import ContextInfo

OpenGL.ERROR_CHECKING = False
from OpenGL import GL


def other(first: PbufferContext) -> None:
    context = PbufferContext(ContextInfo(), DefaultFramebuffer(16, 16, alpha=8))
    if "--share" in sys.argv:
        egl = context._egl
        made = egl.eglCreateContext(context._display, context._config, first._context, (ctypes.c_int * 1)(0x3038))
        egl.eglMakeCurrent(context._display, context._surface, context._surface, made)
    while True:
        GL.glClear(GL.GL_COLOR_BUFFER_BIT)
        GL.glFinish()


def main() -> None:
    context = PbufferContext(ContextInfo(), DefaultFramebuffer(64, 64, alpha=8))
    threading.Thread(target=other, args=(context,), daemon=True).start()
    frame = 0
    while True:
        for i in range(40):
            GL.glEnable(GL.GL_SCISSOR_TEST)
            GL.glScissor(i, (i * 7 + frame) % 60, 20, 3)
            GL.glClearColor(i / 40, frame % 9 / 9, 0.5, 1.0)
            GL.glClear(GL.GL_COLOR_BUFFER_BIT)
        time.sleep(0.02)  # inside the frame, so that the other thread has its turn
        context.swap()
        frame += 1


if __name__ == "__main__":
    main()
