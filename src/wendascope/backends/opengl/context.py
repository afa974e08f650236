"""A GL context without a window, through EGL: of the captured API, version, profile and pixel format."""

from __future__ import annotations

import ctypes
import ctypes.util
from dataclasses import dataclass

from wendascope.backends.opengl.objects.records import DefaultFramebuffer
from wendascope.errors import MachineError
from wendascope.frame.context import ContextInfo

# EGL names, from the Khronos EGL registry
_NONE = 0x3038
_SURFACE_TYPE, _PBUFFER_BIT = 0x3033, 0x0001
_RENDERABLE_TYPE, _OPENGL_BIT, _OPENGL_ES2_BIT, _OPENGL_ES3_BIT = 0x3040, 0x0008, 0x0004, 0x0040
_RED, _GREEN, _BLUE, _ALPHA, _DEPTH, _STENCIL = 0x3024, 0x3023, 0x3022, 0x3021, 0x3025, 0x3026
_SIZES = (_RED, _GREEN, _BLUE, _ALPHA, _DEPTH, _STENCIL)
_SAMPLE_BUFFERS, _SAMPLES = 0x3032, 0x3031
_WIDTH, _HEIGHT = 0x3057, 0x3056
_OPENGL_API, _OPENGL_ES_API = 0x30A2, 0x30A0
_MAJOR, _MINOR, _PROFILE_MASK, _CORE, _COMPATIBILITY = 0x3098, 0x30FB, 0x30FD, 1, 2
_FLAGS = 0x30FC
_COLORSPACE, _SRGB = 0x309D, 0x3089
_PLATFORM_SURFACELESS = 0x31DD
_OLDER = ((4, 5), (4, 3), (4, 2), (4, 0), (3, 3))
"""Versions that are tried where the captured one is not to be had."""
_INSTALL = "install the packages libegl1 and libgl1-mesa-dri"


@dataclass(frozen=True)
class _Wanted:
    context: ContextInfo
    framebuffer: DefaultFramebuffer


class PbufferContext:
    """A current context with a pbuffer as its window. Raises MachineError when EGL has no driver for it."""

    def __init__(self, context: ContextInfo, framebuffer: DefaultFramebuffer) -> None:
        self._egl = _load()
        self._display = self._open_display()
        self.caveats: list[str] = []
        """In what the context is not like the captured one."""
        wanted = _Wanted(context, framebuffer)
        es = context.profile == "es"
        if not self._egl.eglBindAPI(_OPENGL_ES_API if es else _OPENGL_API):
            raise MachineError(f"the EGL driver has no {context.api}; {_INSTALL}")
        config = self._choose(wanted, es)
        self._config = config
        self._surface = self._make_surface(config, framebuffer.width, framebuffer.height, framebuffer.srgb)
        self._others: list[int] = []
        self._context = self._make_context(config, context, es)
        self._description = str(context)
        self.make_current()

    def make_current(self) -> None:
        if not self._egl.eglMakeCurrent(self._display, self._surface, self._surface, self._context):
            raise MachineError(f"the EGL driver cannot make a {self._description} context current")

    def _open_display(self) -> int:
        egl = self._egl
        get_platform = egl.eglGetProcAddress(b"eglGetPlatformDisplayEXT")
        display = 0
        if get_platform:
            make = ctypes.CFUNCTYPE(ctypes.c_void_p, ctypes.c_uint, ctypes.c_void_p, ctypes.c_void_p)(get_platform)
            display = make(_PLATFORM_SURFACELESS, None, None) or 0
        for candidate in (display, egl.eglGetDisplay(None) or 0):
            if candidate and egl.eglInitialize(candidate, None, None):
                return int(candidate)
        raise MachineError(f"EGL finds no driver on this machine; {_INSTALL}")

    def _choose(self, wanted: _Wanted, es: bool) -> int:
        """The config whose component sizes are those of the captured window, or the nearest above."""
        f = wanted.framebuffer
        least = [f.red, f.green, f.blue, f.alpha, f.depth, f.stencil, f.samples]
        found = self._configs(wanted, least, es)
        if not found and f.samples:
            found = self._configs(wanted, [*least[:-1], 0], es)
        if not found:  # the nearest, with some of everything that the captured one has
            found = self._configs(wanted, [*(min(bits, 1) for bits in least[:-1]), 0], es)
        if not found:
            raise MachineError("the EGL driver has no pixel format like the captured window's")
        target = (f.red, f.green, f.blue, f.alpha, f.depth, f.stencil, f.samples)

        def distance(config: int) -> int:
            have = tuple(self._attribute(config, name) for name in (*_SIZES, _SAMPLES))
            return sum(abs(a - b) for a, b in zip(have, target, strict=True))

        chosen = min(found, key=distance)
        words = ("red", "green", "blue", "alpha", "depth", "stencil")
        self.caveats += [
            f"the captured window has {bits} bits of {word}, and the nearest here {here}"
            for word, name, bits in zip(words, _SIZES, target[:6], strict=True)
            if (here := self._attribute(chosen, name)) < bits
        ]
        if self._attribute(chosen, _SAMPLES) < f.samples:
            self.caveats.append(f"the captured window has {f.samples} samples per pixel, and none here has so many")
        return chosen

    def _configs(self, wanted: _Wanted, least: list[int], es: bool) -> list[int]:
        """Configs with at least so many bits of red, green, blue, alpha, depth and stencil, and samples."""
        es_bit = _OPENGL_ES3_BIT if wanted.context.major >= 3 else _OPENGL_ES2_BIT
        sizes = [value for pair in zip(_SIZES, least[:6], strict=True) for value in pair]
        attributes = [
            _SURFACE_TYPE, _PBUFFER_BIT, _RENDERABLE_TYPE, es_bit if es else _OPENGL_BIT, *sizes,
            _SAMPLE_BUFFERS, int(least[6] > 0), _SAMPLES, least[6], _NONE,
        ]  # fmt: skip
        count = ctypes.c_int()
        configs = (ctypes.c_void_p * 256)()
        array = (ctypes.c_int * len(attributes))(*attributes)
        if not self._egl.eglChooseConfig(self._display, array, configs, 256, ctypes.byref(count)):
            return []
        return [int(c) for c in configs[: count.value] if c is not None]

    def _attribute(self, config: int, name: int) -> int:
        value = ctypes.c_int()
        self._egl.eglGetConfigAttrib(self._display, config, name, ctypes.byref(value))
        return value.value

    def _make_surface(self, config: int, width: int, height: int, srgb: bool) -> int:
        size = [_WIDTH, max(1, width), _HEIGHT, max(1, height)]
        surface = 0
        for extra in ([_COLORSPACE, _SRGB], []) if srgb else ([],):
            attributes = [*size, *extra, _NONE]
            surface = surface or self._egl.eglCreatePbufferSurface(
                self._display, config, (ctypes.c_int * len(attributes))(*attributes)
            )
        if not surface:
            raise MachineError(f"the EGL driver cannot make a {width}x{height} pbuffer")
        return int(surface)

    def surface(self, width: int, height: int) -> tuple[int, int]:
        """One more window of the same kind, as (display, surface)."""
        self._others.append(self._make_surface(self._config, width, height, False))
        return self._display, self._others[-1]

    @property
    def main_surface(self) -> tuple[int, int]:
        return self._display, self._surface

    def _make_context(self, config: int, context: ContextInfo, es: bool) -> int:
        captured = context.major, context.minor
        # a driver that knows a little less may still have all that the frame calls
        for version in (captured, *(older for older in _OLDER if older < captured and not es)):
            made = self._context_of(config, context, version, es)
            if made and version != captured:
                self.caveats.append(
                    f"the frame was made with {context.api} {captured[0]}.{captured[1]}, and this driver has"
                    f" {version[0]}.{version[1]}"
                )
            if made:
                return made
        raise MachineError(f"this machine's driver cannot make a {context} context; update the Mesa packages")

    def _context_of(self, config: int, context: ContextInfo, version: tuple[int, int], es: bool) -> int:
        """A context of a version; 0 where there is none."""
        attributes = [_MAJOR, version[0], _MINOR, version[1]]
        if not es and version >= (3, 2):
            attributes += [_PROFILE_MASK, _CORE if context.profile == "core" else _COMPATIBILITY]
            attributes += [_FLAGS, context.flags & 0x2]  # forward-compatible contexts refuse some state
        attributes.append(_NONE)
        array = (ctypes.c_int * len(attributes))(*attributes)
        return int(self._egl.eglCreateContext(self._display, config, None, array) or 0)

    def swap(self) -> None:
        """End a frame, as a program does. Replay never needs to."""
        self._egl.eglSwapBuffers(self._display, self._surface)

    def close(self) -> None:
        self._egl.eglMakeCurrent(self._display, None, None, None)
        self._egl.eglDestroyContext(self._display, self._context)
        for surface in (self._surface, *self._others):
            self._egl.eglDestroySurface(self._display, surface)


def _load() -> ctypes.CDLL:
    try:
        egl = ctypes.CDLL("libEGL.so.1")
    except OSError as error:
        raise MachineError(f"libEGL.so.1 is missing; {_INSTALL}") from error
    pointer, integer = ctypes.c_void_p, ctypes.c_int
    egl.eglGetProcAddress.restype = pointer
    egl.eglGetDisplay.argtypes, egl.eglGetDisplay.restype = [pointer], pointer
    egl.eglInitialize.argtypes = [pointer, pointer, pointer]
    egl.eglChooseConfig.argtypes = [pointer, pointer, pointer, integer, pointer]
    egl.eglGetConfigAttrib.argtypes = [pointer, pointer, integer, pointer]
    egl.eglCreatePbufferSurface.argtypes, egl.eglCreatePbufferSurface.restype = [pointer, pointer, pointer], pointer
    egl.eglCreateContext.argtypes, egl.eglCreateContext.restype = [pointer, pointer, pointer, pointer], pointer
    egl.eglMakeCurrent.argtypes = [pointer, pointer, pointer, pointer]
    egl.eglSwapBuffers.argtypes = [pointer, pointer]
    egl.eglDestroyContext.argtypes = [pointer, pointer]
    egl.eglDestroySurface.argtypes = [pointer, pointer]
    return egl
