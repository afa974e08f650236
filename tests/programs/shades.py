"""A few draws whose shaders do too much, in several dialects of GLSL.

shades.py core | old | es     GLSL 3.30, 1.20 or ES 3.00
"""

from __future__ import annotations

import sys

import numpy as np
from _linking import make_program
from _running import SIZE, compatibility, core, es, forever
from OpenGL import GL

KIND = sys.argv[1]
OLD, ES = KIND == "old", KIND == "es"
HEAD = {"core": "#version 330 core\n", "old": "#version 120\n", "es": "#version 300 es\n"}[KIND]
IN, OUT, FETCHED = ("attribute", "varying", "varying") if OLD else ("in", "out", "in")
RESULT = "gl_FragColor" if OLD else "result"
PRECISION = "precision highp float;\n" if ES else ""
DECLARED = "" if OLD else "out vec4 result;\n"
LOOK_UP = "texture2D" if OLD else "texture"
TEXTURES, ROUNDS = 2, 9

VERTEX = f"""{HEAD}{IN} vec2 position;
uniform vec4 place;
{OUT} vec2 coords;
void main() {{ coords = position * 0.5 + 0.5; gl_Position = vec4(position * place.zw + place.xy, 0.0, 1.0); }}
"""


def lit(levels: int) -> str:
    """One of a family: only a constant differs."""
    return f"""{HEAD}{PRECISION}{FETCHED} vec2 coords;
uniform sampler2D rough;
uniform sampler2D wet;
uniform float hour;
uniform int rounds;
{DECLARED}const float turn = 0.26;
vec3 sky() {{ return normalize(vec3(sin(hour * turn), cos(hour * turn), 1.5)) * 0.4; }}
void main() {{
    vec3 light = sky() * float({levels});
    float ground = {LOOK_UP}(rough, coords).r * {LOOK_UP}(wet, coords).r;
    for (int i = 0; i < rounds; i++)
        light += vec3(sin(coords.x * float(i)), cos(coords.y * float(i)), 0.5) * ground * 0.02;
    vec2 middle = coords * 2.0 - vec2(1.0, 0.5);
    if (middle.x > 0.25) {{ light *= 0.9; }}
    {RESULT} = vec4(light, 0.8 + pow(ground, 2.0) * 0.1);
}}
"""


SHEET = f"""{HEAD}{PRECISION}{FETCHED} vec2 coords;
uniform vec4 tint;
{DECLARED}void main() {{
    vec2 at = coords * vec2(1.5, 0.3);
    float glow = 0.1 * (sin(at.x) + sin(at.x + 0.2) * cos(at.y) + cos(at.y + 0.1) + sin(at.x + 0.4) * cos(at.y + 0.2));
    glow += 0.05 * (sqrt(1.0 + at.x * at.x + at.y) + exp(-at.x) + cos(at.x * 0.5));
    {RESULT} = vec4(tint.rgb * (0.5 + glow), tint.a);
}}
"""
CUT = f"""{HEAD}{PRECISION}{FETCHED} vec2 coords;
{DECLARED}void main() {{ if (length(coords - 0.5) > 0.5) discard;
    {RESULT} = vec4(gl_FragCoord.xy / {SIZE[0]}.0, 0.3, 1.0); }}
"""


class Shades:
    def __init__(self) -> None:
        self.lit = [make_program(VERTEX, lit(levels)) for levels in (1, 2)]
        self.sheet, self.cut = make_program(VERTEX, SHEET), make_program(VERTEX, CUT)
        corners = np.array([(-1, -1), (1, -1), (-1, 1), (1, 1)], np.float32)
        GL.glBindVertexArray(GL.glGenVertexArrays(1))
        GL.glBindBuffer(GL.GL_ARRAY_BUFFER, GL.glGenBuffers(1))
        GL.glBufferData(GL.GL_ARRAY_BUFFER, corners.nbytes, corners, GL.GL_STATIC_DRAW)
        GL.glEnableVertexAttribArray(0)
        GL.glVertexAttribPointer(0, 2, GL.GL_FLOAT, False, 8, None)
        random = np.random.default_rng(1)
        for unit in range(TEXTURES):
            GL.glActiveTexture(GL.GL_TEXTURE0 + unit)
            GL.glBindTexture(GL.GL_TEXTURE_2D, GL.glGenTextures(1))
            grey = np.repeat(random.integers(0, 255, (64, 64, 1), np.uint8), 4, axis=2)
            grey[..., 3] = 255
            GL.glTexImage2D(
                GL.GL_TEXTURE_2D,
                0,
                GL.GL_RGBA if OLD else GL.GL_RGBA8,
                64,
                64,
                0,
                GL.GL_RGBA,
                GL.GL_UNSIGNED_BYTE,
                np.ascontiguousarray(grey),
            )
            GL.glGenerateMipmap(GL.GL_TEXTURE_2D)

    def at(self, program: int, x: float, y: float, size: float) -> None:
        GL.glUseProgram(program)
        GL.glUniform4f(GL.glGetUniformLocation(program, "place"), x, y, size, size)

    def draw(self, _number: int) -> None:
        GL.glViewport(0, 0, *SIZE)
        GL.glDisable(GL.GL_BLEND)
        GL.glClearColor(0.1, 0.1, 0.15, 1)
        GL.glClear(GL.GL_COLOR_BUFFER_BIT)
        for k in range(6):
            program = self.lit[k % 2]
            self.at(program, -0.75 + 0.3 * k, 0.2, 0.3)
            for name, unit in (("rough", 0), ("wet", 1)):
                GL.glUniform1i(GL.glGetUniformLocation(program, name), unit)
            GL.glUniform1f(GL.glGetUniformLocation(program, "hour"), 22.5)
            GL.glUniform1i(GL.glGetUniformLocation(program, "rounds"), ROUNDS)
            GL.glDrawArrays(GL.GL_TRIANGLE_STRIP, 0, 4)
        self.at(self.cut, 0.3, -0.5, 0.4)
        GL.glDrawArrays(GL.GL_TRIANGLE_STRIP, 0, 4)
        GL.glEnable(GL.GL_BLEND)
        GL.glBlendFunc(GL.GL_SRC_ALPHA, GL.GL_ONE_MINUS_SRC_ALPHA)
        self.at(self.sheet, 0.0, 0.0, 1.0)
        GL.glUniform4f(GL.glGetUniformLocation(self.sheet, "tint"), 0.2, 0.6, 0.9, 0.3)
        GL.glDrawArrays(GL.GL_TRIANGLE_STRIP, 0, 4)


def main() -> None:
    context = {"core": core, "old": compatibility, "es": es}[KIND]()
    shades = Shades()
    forever(context, shades.draw)


if __name__ == "__main__":
    main()
