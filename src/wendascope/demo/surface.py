"""Where the demo draws: a window where there is a display, an EGL pbuffer where there is none."""

from __future__ import annotations

import os
from typing import Protocol


class Surface(Protocol):
    """A current OpenGL 3.3 core context and the buffer it draws to."""

    def swap(self) -> None: ...

    def closed(self) -> bool: ...

    def close(self) -> None: ...


def has_display() -> bool:
    return bool(os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY"))


def open_surface(width: int, height: int, title: str, window: bool) -> Surface:
    """Make a context current. Raises RuntimeError, saying what is missing. Call before importing OpenGL.GL."""
    os.environ["PYOPENGL_PLATFORM"] = "glx" if window and os.environ.get("DISPLAY") else "egl"
    import OpenGL

    if not window:
        from OpenGL import EGL  # noqa: F401 - cannot be imported once error checking is off
    OpenGL.ERROR_CHECKING = False
    OpenGL.ERROR_LOGGING = False
    return _Window(width, height, title) if window else _Pbuffer(width, height)


class _Window:
    def __init__(self, width: int, height: int, title: str) -> None:
        import glfw

        self._glfw = glfw
        if not glfw.init():
            raise RuntimeError("no window can be opened; unset DISPLAY to draw off-screen")
        for hint, value in (
            (glfw.CONTEXT_VERSION_MAJOR, 3), (glfw.CONTEXT_VERSION_MINOR, 3), (glfw.OPENGL_PROFILE, glfw.OPENGL_CORE_PROFILE),
            (glfw.RESIZABLE, False), (glfw.DEPTH_BITS, 24), (glfw.STENCIL_BITS, 8),
        ):  # fmt: skip
            glfw.window_hint(hint, value)
        if not os.environ.get("DISPLAY"):
            glfw.window_hint(glfw.CONTEXT_CREATION_API, glfw.EGL_CONTEXT_API)
        self._window = glfw.create_window(width, height, title, None, None)
        if not self._window:
            raise RuntimeError("the display offers no OpenGL 3.3 core context")
        glfw.make_context_current(self._window)
        glfw.swap_interval(0)

    def swap(self) -> None:
        self._glfw.swap_buffers(self._window)
        self._glfw.poll_events()

    def closed(self) -> bool:
        return bool(self._glfw.window_should_close(self._window))

    def close(self) -> None:
        self._glfw.terminate()


class _Pbuffer:
    def __init__(self, width: int, height: int) -> None:
        from OpenGL import EGL

        self._egl = EGL
        os.environ.setdefault("EGL_PLATFORM", "surfaceless")
        self._display = EGL.eglGetDisplay(EGL.EGL_DEFAULT_DISPLAY)
        major, minor = EGL.EGLint(), EGL.EGLint()
        if not EGL.eglInitialize(self._display, major, minor):
            raise RuntimeError("EGL finds no driver; install libegl1 and libgl1-mesa-dri")
        EGL.eglBindAPI(EGL.EGL_OPENGL_API)
        wanted = [
            EGL.EGL_SURFACE_TYPE, EGL.EGL_PBUFFER_BIT, EGL.EGL_RENDERABLE_TYPE, EGL.EGL_OPENGL_BIT, EGL.EGL_RED_SIZE, 8,
            EGL.EGL_GREEN_SIZE, 8, EGL.EGL_BLUE_SIZE, 8, EGL.EGL_DEPTH_SIZE, 24, EGL.EGL_STENCIL_SIZE, 8, EGL.EGL_NONE,
        ]  # fmt: skip
        config, count = EGL.EGLConfig(), EGL.EGLint()
        EGL.eglChooseConfig(self._display, (EGL.EGLint * len(wanted))(*wanted), config, 1, count)
        size = [EGL.EGL_WIDTH, width, EGL.EGL_HEIGHT, height, EGL.EGL_NONE]
        self._surface = EGL.eglCreatePbufferSurface(self._display, config, (EGL.EGLint * len(size))(*size))
        version = [0x3098, 3, 0x30FB, 3, 0x30FD, 1, EGL.EGL_NONE]  # major, minor, core profile
        context = EGL.eglCreateContext(self._display, config, None, (EGL.EGLint * len(version))(*version))
        if not context or not EGL.eglMakeCurrent(self._display, self._surface, self._surface, context):
            raise RuntimeError("the EGL driver offers no OpenGL 3.3 core context; update the Mesa packages")

    def swap(self) -> None:
        self._egl.eglSwapBuffers(self._display, self._surface)

    def closed(self) -> bool:
        return False

    def close(self) -> None:
        self._egl.eglTerminate(self._display)
