"""Draws into a multisampled texture and renderbuffer that keep their contents from frame to frame, and resolves
them.
"""

from __future__ import annotations

import os

os.environ["PYOPENGL_PLATFORM"] = "egl"

import OpenGL

from wendascope.backends.opengl.context import PbufferContext
from wendascope.backends.opengl.objects.records import DefaultFramebuffer
from wendascope.frame.context import ContextInfo

OpenGL.ERROR_CHECKING = False
from OpenGL import GL

SIZE = 64


def main() -> None:
    context = PbufferContext(ContextInfo(), DefaultFramebuffer(SIZE, SIZE, alpha=8, depth=24, stencil=8))
    texture = int(GL.glGenTextures(1))
    GL.glBindTexture(GL.GL_TEXTURE_2D_MULTISAMPLE, texture)
    GL.glTexImage2DMultisample(GL.GL_TEXTURE_2D_MULTISAMPLE, 4, GL.GL_RGBA8, SIZE, SIZE, True)
    renderbuffer = int(GL.glGenRenderbuffers(1))
    GL.glBindRenderbuffer(GL.GL_RENDERBUFFER, renderbuffer)
    GL.glRenderbufferStorageMultisample(GL.GL_RENDERBUFFER, 4, GL.GL_RGBA8, SIZE, SIZE)
    framebuffers = [int(f) for f in GL.glGenFramebuffers(2)]
    GL.glBindFramebuffer(GL.GL_FRAMEBUFFER, framebuffers[0])
    GL.glFramebufferTexture2D(GL.GL_FRAMEBUFFER, GL.GL_COLOR_ATTACHMENT0, GL.GL_TEXTURE_2D_MULTISAMPLE, texture, 0)
    GL.glClear(GL.GL_COLOR_BUFFER_BIT)
    GL.glBindFramebuffer(GL.GL_FRAMEBUFFER, framebuffers[1])
    GL.glFramebufferRenderbuffer(GL.GL_FRAMEBUFFER, GL.GL_COLOR_ATTACHMENT0, GL.GL_RENDERBUFFER, renderbuffer)
    GL.glClear(GL.GL_COLOR_BUFFER_BIT)
    frame = 0
    while True:
        for i, framebuffer in enumerate(framebuffers):
            GL.glBindFramebuffer(GL.GL_FRAMEBUFFER, framebuffer)
            # one more square each frame: the others are from the frames before
            GL.glEnable(GL.GL_SCISSOR_TEST)
            GL.glScissor(frame * 7 % 60, (frame * 11 + i * 5) % 60, 9, 9)
            GL.glClearColor(frame * 37 % 256 / 255, frame * 91 % 256 / 255, i, 1.0)
            GL.glClear(GL.GL_COLOR_BUFFER_BIT)
            GL.glDisable(GL.GL_SCISSOR_TEST)
            GL.glBindFramebuffer(GL.GL_READ_FRAMEBUFFER, framebuffer)
            GL.glBindFramebuffer(GL.GL_DRAW_FRAMEBUFFER, 0)
            half = SIZE // 2
            # a resolve may not stretch: the left half of one, the right half of the other
            GL.glBlitFramebuffer(
                i * half,
                0,
                i * half + half,
                SIZE,
                i * half,
                0,
                i * half + half,
                SIZE,
                GL.GL_COLOR_BUFFER_BIT,
                GL.GL_NEAREST,
            )
        context.swap()
        frame += 1


if __name__ == "__main__":
    main()
