"""Uses a texture view, which a rebuild does not follow yet."""

from __future__ import annotations

import os

os.environ["PYOPENGL_PLATFORM"] = "egl"

import OpenGL

from wendascope.frame.objects import ContextInfo, DefaultFramebuffer
from wendascope.replay.context import PbufferContext

OpenGL.ERROR_CHECKING = False
from OpenGL import GL


def main() -> None:
    context = PbufferContext(ContextInfo(major=4, minor=5), DefaultFramebuffer(32, 32, alpha=8))
    whole, view = (int(t) for t in GL.glGenTextures(2))
    GL.glBindTexture(GL.GL_TEXTURE_2D_ARRAY, whole)
    GL.glTexStorage3D(GL.GL_TEXTURE_2D_ARRAY, 1, GL.GL_RGBA8, 8, 8, 2)
    GL.glTextureView(view, GL.GL_TEXTURE_2D, whole, GL.GL_RGBA8, 0, 1, 1, 1)
    frame = 0
    while True:
        GL.glClearColor(frame % 7 / 7, 0.5, 0.2, 1.0)
        GL.glClear(GL.GL_COLOR_BUFFER_BIT)
        context.swap()
        frame += 1


if __name__ == "__main__":
    main()
