"""Contexts that share objects, for programs of the tests."""

from __future__ import annotations

import ctypes

import _running  # noqa: F401  (tells the GL binding how to behave before it is imported)

from wendascope.backends.opengl.context import PbufferContext

_MAJOR, _MINOR, _PROFILE, _NONE = 0x3098, 0x30FB, 0x30FD, 0x3038


class SecondWindow:
    """One more window for the context that is current, which draws into both in turn."""

    def __init__(self, context: PbufferContext, width: int, height: int) -> None:
        self._egl = ctypes.CDLL("libEGL.so.1")
        self._egl.eglGetCurrentContext.restype = ctypes.c_void_p
        self._egl.eglMakeCurrent.argtypes = [ctypes.c_void_p] * 4
        self._egl.eglSwapBuffers.argtypes = [ctypes.c_void_p] * 2
        self._display, self._first = context.main_surface
        _, self._second = context.surface(width, height)
        self._context = self._egl.eglGetCurrentContext()

    def begin(self) -> None:
        """What follows is drawn into this window."""
        self._egl.eglMakeCurrent(self._display, self._second, self._second, self._context)

    def end(self) -> None:
        """Show it, and go back to the first window."""
        self._egl.eglSwapBuffers(self._display, self._second)
        self._egl.eglMakeCurrent(self._display, self._first, self._first, self._context)


class SharedContext:
    """One more context with the objects of the first, on the same surface or on one of its own."""

    def __init__(self, first: PbufferContext, profile: str, own_surface: tuple[int, int] | None = None) -> None:
        self._egl, self._display = first._egl, first._display
        attributes = [_MAJOR, 4, _MINOR, 5, _PROFILE, 1 if profile == "core" else 2, _NONE]
        self._context = self._egl.eglCreateContext(
            self._display, first._config, first._context, (ctypes.c_int * len(attributes))(*attributes)
        )
        self._surface = first.surface(*own_surface)[1] if own_surface else first._surface

    def make_current(self) -> None:
        self._egl.eglMakeCurrent(self._display, self._surface, self._surface, self._context)
