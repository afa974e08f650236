"""OpenGL ES, GLSL ES 1.00 or 3.00: textures of 64 to 512 texels on squares of 64 pixels, so levels 0 to 3 are read."""

from __future__ import annotations

import sys

import numpy as np
from _linking import make_program
from _running import es, forever
from OpenGL import GL

VERTEX = (
    "#version 100\nattribute vec2 place; uniform vec4 box; varying vec2 at; void main() { at = place * 0.5 + 0.5;"
    " gl_Position = vec4(place * box.zw + box.xy, 0.0, 1.0); }"
)
FRAGMENT = (
    "#version 100\nprecision highp float; varying vec2 at; uniform sampler2D image; void main() { gl_FragColor ="
    " texture2D(image, at); }"
)


def in_300(source: str, fragment: bool) -> str:
    source = source.replace("#version 100", "#version 300 es").replace("attribute", "in")
    source = source.replace("varying", "in" if fragment else "out").replace("texture2D", "texture")
    return (
        source.replace("void main", "out vec4 shown; void main").replace("gl_FragColor", "shown")
        if fragment
        else source
    )


def main() -> None:
    context = es()
    sources = (VERTEX, FRAGMENT) if sys.argv[1] == "100" else (in_300(VERTEX, False), in_300(FRAGMENT, True))
    program = make_program(*sources)
    quad = int(GL.glGenBuffers(1))
    GL.glBindBuffer(GL.GL_ARRAY_BUFFER, quad)
    GL.glBufferData(GL.GL_ARRAY_BUFFER, 32, np.array([-1, -1, 1, -1, -1, 1, 1, 1], np.float32), GL.GL_STATIC_DRAW)
    names = []
    for level in range(4):
        side = 64 << level
        name = int(GL.glGenTextures(1))
        GL.glBindTexture(GL.GL_TEXTURE_2D, name)
        pixels = np.random.default_rng(level).integers(0, 256, (side, side, 4)).astype(np.uint8)
        GL.glTexImage2D(GL.GL_TEXTURE_2D, 0, GL.GL_RGBA, side, side, 0, GL.GL_RGBA, GL.GL_UNSIGNED_BYTE, pixels)
        GL.glGenerateMipmap(GL.GL_TEXTURE_2D)
        GL.glTexParameteri(GL.GL_TEXTURE_2D, GL.GL_TEXTURE_MIN_FILTER, GL.GL_LINEAR_MIPMAP_LINEAR)
        names.append(name)

    def draw(_: int) -> None:
        GL.glViewport(0, 0, 160, 120)
        GL.glClear(GL.GL_COLOR_BUFFER_BIT)
        GL.glUseProgram(program)
        GL.glBindBuffer(GL.GL_ARRAY_BUFFER, quad)
        place = GL.glGetAttribLocation(program, "place")
        GL.glVertexAttribPointer(place, 2, GL.GL_FLOAT, False, 8, None)
        GL.glEnableVertexAttribArray(place)
        for level, name in enumerate(names):
            GL.glBindTexture(GL.GL_TEXTURE_2D, name)
            x, y = 40 + 70 * (level % 2), 30 + 60 * (level // 2)
            GL.glUniform4f(GL.glGetUniformLocation(program, "box"), x / 80 - 1, y / 60 - 1, 32 / 80, 32 / 60)
            GL.glDrawArrays(GL.GL_TRIANGLE_STRIP, 0, 4)

    forever(context, draw)


if __name__ == "__main__":
    main()
