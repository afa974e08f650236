"""Where the demo draws: a window where there is a display, an EGL pbuffer where there is none."""

from __future__ import annotations

import importlib.util
import os
from typing import Protocol

from wendascope.backends.opengl.context import PbufferContext
from wendascope.backends.opengl.objects.records import DefaultFramebuffer
from wendascope.errors import MachineError
from wendascope.frame.context import ContextInfo


class Surface(Protocol):
    """A current OpenGL 3.3 core context and the buffer it draws to."""

    def swap(self) -> None: ...

    def closed(self) -> bool: ...

    def close(self) -> None: ...


def has_display() -> bool:
    """Whether a window can be opened."""
    return bool(os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY"))


def missing_packages() -> list[str]:
    """Python packages that the demo program draws with and that are not installed."""
    return [name for name in ("glfw", "OpenGL") if importlib.util.find_spec(name) is None]


def open_surface(width: int, height: int, title: str, window: bool) -> Surface:
    """Make a context current. Raises RuntimeError or MachineError, saying what is missing. Call before importing
    OpenGL.GL.
    """
    if missing_packages():
        raise MachineError(
            f"the demo program draws with Python packages that are missing ({', '.join(missing_packages())}): install"
            " wendascope[demo]"
        )
    os.environ["PYOPENGL_PLATFORM"] = "glx" if window and os.environ.get("DISPLAY") else "egl"
    import OpenGL

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
            (glfw.CONTEXT_VERSION_MAJOR, 3),
            (glfw.CONTEXT_VERSION_MINOR, 3),
            (glfw.OPENGL_PROFILE, glfw.OPENGL_CORE_PROFILE),
            (glfw.RESIZABLE, False),
            (glfw.DEPTH_BITS, 24),
            (glfw.STENCIL_BITS, 8),
        ):
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
        wanted = DefaultFramebuffer(width, height, alpha=8, depth=24, stencil=8)
        self._context = PbufferContext(ContextInfo(major=3, minor=3, profile="core"), wanted)

    def swap(self) -> None:
        self._context.swap()

    def closed(self) -> bool:
        return False

    def close(self) -> None:
        self._context.close()
