"""A context of the wanted kind and the loop of a program that draws frames until it is ended."""

from __future__ import annotations

import os
from collections.abc import Callable
from typing import Any

os.environ["PYOPENGL_PLATFORM"] = "egl"

import OpenGL

from wendascope.backends.opengl.context import PbufferContext
from wendascope.backends.opengl.objects.records import DefaultFramebuffer
from wendascope.frame.context import ContextInfo

OpenGL.ERROR_CHECKING = False

SIZE = (160, 120)


def compatibility(major: int = 4, minor: int = 5, **framebuffer: int) -> PbufferContext:
    return _context(ContextInfo(major=major, minor=minor, profile="compatibility"), framebuffer)


def core(major: int = 4, minor: int = 5, **framebuffer: int) -> PbufferContext:
    return _context(ContextInfo(major=major, minor=minor), framebuffer)


def es(major: int = 3, minor: int = 2, **framebuffer: int) -> PbufferContext:
    return _context(ContextInfo(api="OpenGL ES", major=major, minor=minor, profile="es"), framebuffer)


def _context(info: ContextInfo, framebuffer: dict[str, Any]) -> PbufferContext:
    overridden = os.environ.get("MESA_GLES_VERSION_OVERRIDE" if info.es else "MESA_GL_VERSION_OVERRIDE")
    if overridden:  # an older driver, as Mesa plays it
        info.major, info.minor = (int(n) for n in overridden.removesuffix("COMPAT").split("."))
    shape: dict[str, Any] = {"width": SIZE[0], "height": SIZE[1], "alpha": 8, "depth": 24, "stencil": 8} | framebuffer
    return PbufferContext(info, DefaultFramebuffer(**shape))


def forever(context: PbufferContext, draw: Callable[[int], None]) -> None:
    number = 0
    while True:
        draw(number)
        context.swap()
        number += 1
