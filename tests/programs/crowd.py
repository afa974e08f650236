"""Draws many small things one by one, a group in each way in which they could be drawn together.

crowd.py core | old | es     GLSL 3.30, 1.20 or ES 3.00
"""

from __future__ import annotations

import sys

import numpy as np
from _linking import link
from _running import SIZE, compatibility, core, es, forever
from OpenGL import GL

KIND = sys.argv[1]
OLD, ES = KIND == "old", KIND == "es"
HEAD = {"core": "#version 330 core\n", "old": "#version 120\n", "es": "#version 300 es\n"}[KIND]
IN, OUT, RESULT = ("attribute", "varying", "gl_FragColor") if OLD else ("in", "out", "result")
FETCHED = "varying" if OLD else "in"
PRECISION = "precision mediump float;\n" if ES else ""
DECLARED = "" if OLD else "out vec4 result;\n"
LOOK_UP = "texture2D" if OLD else "texture"
SHAPE = "uniform float weights[3];\n" if not OLD else "uniform float weights0, weights1, weights2;\n"
SUM = "weights[0] + weights[1] + weights[2]" if not OLD else "weights0 + weights1 + weights2"

VERTEX = f"""{HEAD}// the place of each thing
{IN} vec3 position;
uniform vec4 place;
#define AT(p) (p) * place.zw + place.xy /* place is per thing */
{OUT} vec2 coords;
void main() {{ coords = position.xy * 0.5 + 0.5; gl_Position = vec4(AT(position.xy), position.z, 1.0); }}
"""
COLOUR = f"""{HEAD}{PRECISION}uniform vec4 colour; uniform int mode;
{SHAPE}{FETCHED} vec2 coords;
{DECLARED}float shade() {{ vec4 place = vec4({SUM}); return mode == 1 ? place.x : 1.0; }}
void main() {{ {RESULT} = vec4(colour.rgb * shade(), colour.a); }}
"""
TEXTURED = f"""{HEAD}{PRECISION}uniform sampler2D surface;
{FETCHED} vec2 coords;
{DECLARED}vec4 seen() {{ return {LOOK_UP}(surface, coords * vec2(1.0, 0.9)); }}
void main() {{ {RESULT} = seen(); }}
"""
BLOCK = "layout(std140) uniform Thing { vec4 place; mat2 turn; float fade[2]; } thing;\n"
IN_BLOCK = (
    f"#version 330 core\nin vec3 position;\n{BLOCK}void main() {{ gl_Position = vec4(thing.turn * position.xy *"
    " thing.place.zw + thing.place.xy, 0.1, 1.0); }\n"
)
FADED = (
    f"#version 330 core\n{BLOCK}out vec4 result;\nvoid main() {{ result = vec4(thing.fade[0], thing.fade[1], 0.4, 1.0);"
    " }\n"
)
TOLD = (
    "#version 330 core\nstruct Look { vec4 colour; float fade; };\nuniform Look look;\nout vec4 result;\nvoid main() {"
    " result = look.colour * look.fade; }\n"
)
BLOCKS, REWRITTEN = 10, 6
COPIES, KIN, NEAR, SPRITES, RANGES, SHEETS, TIES = 12, 9, 8, 6, 9, 10, 5


def grid(cells: int) -> np.ndarray:
    """Corners of a square of cells, two triangles each, as a list."""
    x = np.linspace(-1, 1, cells + 1)
    rows = []
    for i in range(cells):
        for j in range(cells):
            a, b, c, d = (x[i], x[j]), (x[i + 1], x[j]), (x[i + 1], x[j + 1]), (x[i], x[j + 1])
            rows += [a, b, c, a, c, d]
    return np.array([(*p, 0.1) for p in rows], np.float32)


class Mesh:
    def __init__(self, program: int, vertices: np.ndarray, mode: int, indices: np.ndarray | None = None) -> None:
        self.mode, self.count = mode, len(vertices) if indices is None else len(indices)
        self.type = (
            None
            if indices is None
            else {1: GL.GL_UNSIGNED_BYTE, 2: GL.GL_UNSIGNED_SHORT, 4: GL.GL_UNSIGNED_INT}[indices.itemsize]
        )
        self.array = GL.glGenVertexArrays(1)
        GL.glBindVertexArray(self.array)
        GL.glBindBuffer(GL.GL_ARRAY_BUFFER, GL.glGenBuffers(1))
        GL.glBufferData(GL.GL_ARRAY_BUFFER, vertices.nbytes, vertices, GL.GL_STATIC_DRAW)
        where = GL.glGetAttribLocation(program, "position")
        GL.glEnableVertexAttribArray(where)
        GL.glVertexAttribPointer(where, 3, GL.GL_FLOAT, False, 12, None)
        if indices is not None:
            GL.glBindBuffer(GL.GL_ELEMENT_ARRAY_BUFFER, GL.glGenBuffers(1))
            GL.glBufferData(GL.GL_ELEMENT_ARRAY_BUFFER, indices.nbytes, indices, GL.GL_STATIC_DRAW)

    def draw(self) -> None:
        GL.glBindVertexArray(self.array)
        if self.type is None:
            GL.glDrawArrays(self.mode, 0, self.count)
        else:
            GL.glDrawElements(self.mode, self.count, self.type, None)


def thing(k: int) -> bytes:
    """One block: place, a turn, and two values that lie 16 bytes apart."""
    angle = 0.1 * k
    turn = [np.cos(angle), np.sin(angle), 0, 0, -np.sin(angle), np.cos(angle), 0, 0]
    return np.array([-0.85 + 0.17 * k, -0.9, 0.05, 0.05, *turn, 0.1 * k, 0, 0, 0, 0.5, 0, 0, 0], np.float32).tobytes()


class Crowd:
    def __init__(self) -> None:
        self.plain = link({GL.GL_VERTEX_SHADER: VERTEX, GL.GL_FRAGMENT_SHADER: COLOUR})
        self.textured = link({GL.GL_VERTEX_SHADER: VERTEX, GL.GL_FRAGMENT_SHADER: TEXTURED})
        self.grid = Mesh(self.plain, grid(2), GL.GL_TRIANGLES)
        corners = np.array([(-1, -1, 0.2), (1, -1, 0.2), (-1, 1, 0.2), (1, 1, 0.2)], np.float32)
        self.square = Mesh(self.plain, corners, GL.GL_TRIANGLE_STRIP)
        self.shapes = []
        for k in range(KIN):
            angle = np.linspace(0, 2 * np.pi, 4 + k, endpoint=False)
            round_ = np.stack([np.cos(angle), np.sin(angle), np.full(len(angle), 0.3)], axis=1).astype(np.float32)
            match k % 3:
                case 0:
                    self.shapes.append(Mesh(self.plain, round_, GL.GL_TRIANGLE_FAN))
                case 1:
                    order = np.array(
                        [
                            i
                            for p in zip(range(len(angle) // 2 + 1), range(len(angle) - 1, 0, -1), strict=False)
                            for i in p
                        ],
                        np.uint8,
                    )
                    self.shapes.append(Mesh(self.plain, round_, GL.GL_TRIANGLE_STRIP, order))
                case _:
                    fan = np.array([(0, i, i + 1) for i in range(1, len(angle) - 1)], np.uint16).ravel()
                    self.shapes.append(Mesh(self.plain, round_, GL.GL_TRIANGLES, fan))
        random = np.random.default_rng(3)
        self.textures = []
        for _ in range(NEAR):
            self.textures.append(GL.glGenTextures(1))
            GL.glBindTexture(GL.GL_TEXTURE_2D, self.textures[-1])
            pixels = random.integers(0, 255, (16, 16, 4), np.uint8)
            GL.glTexImage2D(
                GL.GL_TEXTURE_2D,
                0,
                GL.GL_RGBA8 if not OLD else GL.GL_RGBA,
                16,
                16,
                0,
                GL.GL_RGBA,
                GL.GL_UNSIGNED_BYTE,
                pixels,
            )
            GL.glGenerateMipmap(GL.GL_TEXTURE_2D)
        self.sprites = []
        for k in range(SPRITES):  # every one of a size of its own
            width, height = 8 << k % 3, 8 << k // 2
            x, y = np.meshgrid(np.linspace(0, 255, width), np.linspace(0, 255, height))
            pixels = np.stack([x, y, np.full_like(x, 40 * k), np.full_like(x, 255)], axis=2).astype(np.uint8)
            self.sprites.append(GL.glGenTextures(1))
            GL.glBindTexture(GL.GL_TEXTURE_2D, self.sprites[-1])
            GL.glTexImage2D(
                GL.GL_TEXTURE_2D,
                0,
                GL.GL_RGBA8 if not OLD else GL.GL_RGBA,
                width,
                height,
                0,
                GL.GL_RGBA,
                GL.GL_UNSIGNED_BYTE,
                np.ascontiguousarray(pixels),
            )
            for name, value in (
                (GL.GL_TEXTURE_MIN_FILTER, GL.GL_LINEAR),
                (GL.GL_TEXTURE_WRAP_S, GL.GL_CLAMP_TO_EDGE),
                (GL.GL_TEXTURE_WRAP_T, GL.GL_CLAMP_TO_EDGE),
            ):
                GL.glTexParameteri(GL.GL_TEXTURE_2D, name, value)
        self.told = link({GL.GL_VERTEX_SHADER: VERTEX, GL.GL_FRAGMENT_SHADER: TOLD}) if KIND == "core" else 0

        if KIND == "core":
            self.blocked = link({GL.GL_VERTEX_SHADER: IN_BLOCK, GL.GL_FRAGMENT_SHADER: FADED})
            GL.glUniformBlockBinding(self.blocked, GL.glGetUniformBlockIndex(self.blocked, "Thing"), 2)
            self.things = GL.glGenBuffers(1)
            GL.glBindBuffer(GL.GL_UNIFORM_BUFFER, self.things)
            GL.glBufferData(
                GL.GL_UNIFORM_BUFFER,
                256 * (BLOCKS + 1),
                b"".join(thing(k).ljust(256, b"\0") for k in range(BLOCKS + 1)),
                GL.GL_DYNAMIC_DRAW,
            )

    def at(self, program: int, x: float, y: float, size: float) -> None:
        GL.glUniform4f(GL.glGetUniformLocation(program, "place"), x, y, size, size)

    def look(self, colour: tuple[float, float, float, float], mode: int, weights: tuple[float, float, float]) -> None:
        GL.glUniform4f(GL.glGetUniformLocation(self.plain, "colour"), *colour)
        GL.glUniform1i(GL.glGetUniformLocation(self.plain, "mode"), mode)
        if OLD:
            for k, weight in enumerate(weights):
                GL.glUniform1f(GL.glGetUniformLocation(self.plain, f"weights{k}"), weight)
        else:
            GL.glUniform1fv(GL.glGetUniformLocation(self.plain, "weights[0]"), 3, np.array(weights, np.float32))

    def draw(self, _number: int) -> None:
        GL.glViewport(0, 0, *SIZE)
        GL.glDisable(GL.GL_BLEND)
        GL.glEnable(GL.GL_DEPTH_TEST)
        GL.glDepthFunc(GL.GL_LEQUAL)
        GL.glClearColor(0.1, 0.1, 0.15, 1)
        GL.glClear(GL.GL_COLOR_BUFFER_BIT | GL.GL_DEPTH_BUFFER_BIT)
        GL.glUseProgram(self.plain)
        for k in range(COPIES):
            self.at(self.plain, -0.9 + 0.16 * k, 0.85, 0.07)
            self.look((0.2 + 0.06 * k, 0.5, 0.9 - 0.05 * k, 1.0), k % 2, (0.1, 0.02 * k, 0.3))
            self.grid.draw()
        for k, shape in enumerate(self.shapes):
            self.at(self.plain, -0.85 + 0.21 * k, 0.5, 0.1)
            self.look((0.9, 0.1 * k, 0.3, 1.0), 0, (0.0, 0.0, 0.0))
            shape.draw()
        GL.glUseProgram(self.textured)
        for k, texture in enumerate(self.textures):
            self.at(self.textured, -0.85 + 0.24 * k, 0.15, 0.1)
            GL.glBindTexture(GL.GL_TEXTURE_2D, texture)
            self.square.draw()
        for k, texture in enumerate(self.sprites):
            self.at(self.textured, -0.85 + 0.2 * k, -0.45, 0.08)
            GL.glBindTexture(GL.GL_TEXTURE_2D, texture)
            self.square.draw()
        # one mesh in pieces: nothing changes between the draws
        GL.glUseProgram(self.plain)
        self.at(self.plain, 0.0, -0.2, 0.2)
        self.look((0.3, 0.9, 0.4, 1.0), 0, (0.0, 0.0, 0.0))
        GL.glBindVertexArray(self.grid.array)
        for k in range(RANGES - 1):
            GL.glDrawArrays(GL.GL_TRIANGLES, 3 * (k % 8), 3)
        # surfaces of one depth, by turns: which comes last is seen
        for k in range(TIES):
            GL.glUseProgram(self.plain)
            self.at(self.plain, -0.6 + 0.05 * k, -0.7, 0.12)
            self.look((1.0, 0.2 * k, 0.0, 1.0), 0, (0.0, 0.0, 0.0))
            self.square.draw()
            GL.glUseProgram(self.textured)
            self.at(self.textured, -0.57 + 0.05 * k, -0.7, 0.12)
            GL.glBindTexture(GL.GL_TEXTURE_2D, self.textures[0])
            self.square.draw()
        # blended sheets over each other keep their order
        GL.glUseProgram(self.plain)
        GL.glEnable(GL.GL_BLEND)
        GL.glBlendFunc(GL.GL_SRC_ALPHA, GL.GL_ONE_MINUS_SRC_ALPHA)
        GL.glDepthMask(False)
        for k in range(SHEETS):
            self.at(self.plain, 0.5 + 0.03 * k, -0.7, 0.15)
            self.look((0.1 * k, 1.0 - 0.1 * k, 0.5, 0.4), 0, (0.0, 0.0, 0.0))
            self.square.draw()
        GL.glDepthMask(True)
        if KIND == "core":
            GL.glDisable(GL.GL_BLEND)
            GL.glUseProgram(self.blocked)
            for k in range(BLOCKS):
                GL.glBindBufferRange(GL.GL_UNIFORM_BUFFER, 2, self.things, 256 * k, 80)
                self.square.draw()
            GL.glBindBufferRange(GL.GL_UNIFORM_BUFFER, 2, self.things, 256 * BLOCKS, 80)
            for k in range(REWRITTEN):
                GL.glBufferSubData(GL.GL_UNIFORM_BUFFER, 256 * BLOCKS, 80, thing(k + 3))
                self.grid.draw()
            GL.glUseProgram(self.told)
            for k in range(9):
                self.at(self.told, -0.9 + 0.06 * k, -0.95, 0.02)
                GL.glUniform4f(GL.glGetUniformLocation(self.told, "look.colour"), 0.1 * k, 0.5, 0.5, 1.0)
                GL.glUniform1f(GL.glGetUniformLocation(self.told, "look.fade"), 0.5)
                self.square.draw()
        if not OLD:
            GL.glBindVertexArray(0)


def main() -> None:
    context = {"core": core, "old": compatibility, "es": es}[KIND]()
    crowd = Crowd()
    forever(context, crowd.draw)


if __name__ == "__main__":
    main()
