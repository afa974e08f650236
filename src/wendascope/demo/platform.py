"""The tram stop's platform, where little moves: what only several frames show is done badly here."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np
from OpenGL import GL

from wendascope.demo import geometry as geo
from wendascope.demo.debug_groups import debug_group
from wendascope.demo.geometry import Matrix, place
from wendascope.demo.resources import (
    LETTERS,
    SCENE_BINDING,
    GlyphBuffer,
    MeshBuffer,
    Program,
    RenderTarget,
    letter_sheet,
    plain,
    speckle,
    texture,
)

Colour = tuple[float, float, float, float]
_SHADOW, _BOARD, _TOWN, _LOOP = 1024, (640, 320), (1024, 160), 2048
"""Sizes in pixels; the panorama repeats after `_LOOP` columns."""
_SCROLL = 2
"""Pixels that it moves by in each frame."""
_LAMPS = (
    (-6.0, 3.6, 2.0, 7.0),
    (-2.0, 3.6, 2.0, 7.0),
    (2.0, 3.6, 2.0, 7.0),
    (6.0, 3.6, 2.0, 7.0),
    (0.0, 3.6, -3.0, 7.0),
)
_SPARE = (0.0, -6.0, 4.0, 2.5)
"""In the store room under the platform, behind its closed door."""
_HITCH_EVERY, _HITCH_SIZE = 5, 2048
_LINES = ("DEPARTURES   STOP 3", "2 HARBOUR       00:14", "7 OBSERVATORY   00:17", "4 GASWORKS      00:21",
          "9 LAST TRAM     00:40", "5 MILL LANE     00:52", "MIND THE WET RAILS")  # fmt: skip


class Platform:
    """All objects of the platform. Needs a current context; `better` names the flaws to leave out: `timetable`,
    `panorama`, `monitor`, `casters`, `spare-lamp` and `hitch` do something here.
    """

    def __init__(self, width: int, height: int, better: frozenset[str]) -> None:
        self.width, self.height, self.better = width, height, better
        self._lamps = np.array([*_LAMPS, *([] if "spare-lamp" in better else [_SPARE])], np.float32)
        self._lit = Program("material.vert", "platform.frag", (f"LAMPS {len(self._lamps)}",))
        self._depth = Program("depth.vert", "depth.frag")
        self._letters = Program("board.vert", "board.frag")
        self._flat = Program("flat.vert", "flat.frag")
        self._white, self._stone = texture(plain(255, 255, 255)), texture(speckle(64, 2, 90, 170, 2))
        self._sheet = texture(letter_sheet(), repeat=False)
        self._glyphs = GlyphBuffer()
        self._scene = GL.glGenBuffers(1)
        GL.glBindBuffer(GL.GL_UNIFORM_BUFFER, self._scene)
        GL.glBufferData(GL.GL_UNIFORM_BUFFER, 16 * 15, None, GL.GL_DYNAMIC_DRAW)
        GL.glBindBufferBase(GL.GL_UNIFORM_BUFFER, SCENE_BINDING, self._scene)
        self._shadow = RenderTarget(_SHADOW, _SHADOW, None, "texture")
        self._still_shadow = RenderTarget(_SHADOW, _SHADOW, None, "texture")
        self._timetable = RenderTarget(*_BOARD, GL.GL_RGBA8, None)
        self._panorama = RenderTarget(_TOWN[0], _TOWN[1], GL.GL_RGBA8, None)
        self._whole_town = RenderTarget(_LOOP, _TOWN[1], GL.GL_RGBA8, None)
        self._monitor = RenderTarget(384, 216, GL.GL_RGBA8, "renderbuffer")
        self._box, self._square, self._post = MeshBuffer(geo.box()), MeshBuffer(geo.quad()), MeshBuffer(geo.cylinder(8))
        self._tram_mesh = MeshBuffer(geo.merged([geo.box().moved(m) for m in _tram_parts()]))
        self._still = self._things()
        self._town = _houses()
        self._first = True

    def _things(self) -> list[tuple[MeshBuffer, Matrix, Colour, int, float]]:
        """What never moves: (mesh, place, colour, texture, glow)."""
        random = np.random.default_rng(21)
        found = [
            (self._box, place(0, -0.2, 2, 12, 0.2, 4), (0.5, 0.5, 0.53, 1.0), self._stone, 0.0),
            (self._box, place(0, 2.2, 6.0, 12, 2.4, 0.2), (0.42, 0.4, 0.4, 1.0), self._stone, 0.0),
            (self._box, place(0, -0.6, -4, 14, 0.1, 3), (0.25, 0.24, 0.24, 1.0), self._stone, 0.0),
        ]
        for k in range(200):
            x, z = -11 + (k % 25) * 0.92, 4.9 - (k // 25) * 0.42
            height = float(random.uniform(0.1, 0.42))
            shade = float(random.uniform(0.4, 0.8))
            tint = (0.6 * shade, 0.45 * shade, 0.3 * shade, 1.0)
            found.append((self._box, place(x, height, z, 0.16, height, 0.13), tint, self._stone, 0.0))
        for x, y, z, _ in _LAMPS:
            found.append(
                (self._post, place(x, y / 2, z + 0.9, 0.05, y / 2, 0.05), (0.3, 0.3, 0.33, 1.0), self._white, 0.0)
            )
            found.append((self._post, place(x, y, z, 0.2, 0.06, 0.2), (1.0, 0.85, 0.6, 1.0), self._white, 2.0))
        return found

    # ---- one frame ---------------------------------------------------------------------------------------------

    def draw(self, frame: int) -> None:
        """Draw frame number `frame`; the same number gives the same picture."""
        if "hitch" not in self.better and frame % _HITCH_EVERY == _HITCH_EVERY - 1:
            with debug_group("posters"):
                self._hitch(frame)
        self._light(frame)
        if "timetable" not in self.better or self._first:
            with debug_group("timetable"):
                self._draw_timetable()
        if "panorama" not in self.better:
            with debug_group("panorama"):
                self._draw_town(self._panorama, frame * _SCROLL)
        elif self._first:
            self._draw_town(self._whole_town, 0)
        with debug_group("shadow"):
            self._draw_shadow(frame)
        if "monitor" not in self.better or frame % 4 == 0:
            with debug_group("monitor"):
                self._view((9.5, 4.2, 5.0), (-6, 0, -3), self._monitor, frame, screens=False)
        with debug_group("platform"):
            self._view((0.0, 2.4, 5.6), (0.6, 1.5, -6), None, frame, screens=True)
        self._first = False

    def _hitch(self, frame: int) -> None:
        """New posters come up all at once, each with a program of its own."""
        name = texture(speckle(_HITCH_SIZE, frame, 40, 220, 4))
        program = Program("flat.vert", "flat.frag", (f"POSTER_{frame}",))
        GL.glDeleteTextures(1, [name])
        GL.glDeleteProgram(program.handle)

    def _tram(self, frame: int) -> Matrix:
        return place(-7.0 + 0.03 * frame, 0.0, -4.0)

    def _light(self, frame: int) -> None:
        GL.glUseProgram(self._lit.handle)
        GL.glUniform4fv(self._lit.location("platform_lamps"), len(self._lamps), self._lamps)
        GL.glUniform1i(self._lit.location("lamp_count"), len(self._lamps))

    def _set_scene(self, view: Matrix, eye: tuple[float, float, float]) -> None:
        data = np.zeros((15, 4), np.float32)
        data[0:4] = view.T
        data[4:8] = (geo.orthographic(14, 1, 60) @ geo.look_at((8, 30, 10), (0, 0, 0))).T
        data[8, :3] = eye
        data[13] = (0, 0, 0, 1)
        GL.glBindBuffer(GL.GL_UNIFORM_BUFFER, self._scene)
        GL.glBufferSubData(GL.GL_UNIFORM_BUFFER, 0, data.nbytes, data)

    def _begin(self, target: RenderTarget | None, depth: bool) -> None:
        GL.glBindFramebuffer(GL.GL_FRAMEBUFFER, target.framebuffer if target else 0)
        GL.glViewport(0, 0, *((target.width, target.height) if target else (self.width, self.height)))
        GL.glDepthMask(True)
        (GL.glEnable if depth else GL.glDisable)(GL.GL_DEPTH_TEST)
        GL.glDisable(GL.GL_BLEND)
        GL.glClearColor(0.02, 0.025, 0.04, 1.0)
        GL.glClear(GL.GL_COLOR_BUFFER_BIT | (GL.GL_DEPTH_BUFFER_BIT if depth else 0))

    def _draw_timetable(self) -> None:
        self._begin(self._timetable, depth=False)
        GL.glEnable(GL.GL_BLEND)
        GL.glBlendFunc(GL.GL_SRC_ALPHA, GL.GL_ONE_MINUS_SRC_ALPHA)
        GL.glUseProgram(self._letters.handle)
        GL.glActiveTexture(GL.GL_TEXTURE0)
        GL.glBindTexture(GL.GL_TEXTURE_2D, self._sheet)
        GL.glUniform1i(self._letters.location("letters"), 0)
        GL.glUniform4f(self._letters.location("tint"), 1.0, 0.74, 0.22, 1.0)
        GL.glBindVertexArray(self._glyphs.vertex_array)
        for row, line in enumerate(_LINES):
            for column, letter in enumerate(line):
                if letter != " ":
                    GL.glUniform4f(self._letters.location("box"), -0.94 + column * 0.088, 0.7 - row * 0.25, 0.085, 0.2)
                    index = LETTERS.index(letter)
                    GL.glUniform4f(self._letters.location("glyph"), index / len(LETTERS), 0.0, 1 / len(LETTERS), 1.0)
                    GL.glDrawArrays(GL.GL_TRIANGLE_STRIP, 0, 4)
        GL.glDisable(GL.GL_BLEND)

    def _draw_town(self, target: RenderTarget, shift: int) -> None:
        """Houses and their windows, a rectangle each, in whole pixels."""
        self._begin(target, depth=False)
        GL.glUseProgram(self._flat.handle)
        GL.glBindVertexArray(self._glyphs.vertex_array)
        width, height = target.width, target.height
        for x, y, w, h, tint in self._town:
            left = (x - shift) % _LOOP
            for start in (left, left - _LOOP):
                if -w < start < width:
                    box = (2 * start / width - 1, 2 * y / height - 1, 2 * w / width, 2 * h / height)
                    GL.glUniform4f(self._flat.location("box"), *box)
                    GL.glUniform4f(self._flat.location("tint"), *tint)
                    GL.glDrawArrays(GL.GL_TRIANGLE_STRIP, 0, 4)

    def _draw_shadow(self, frame: int) -> None:
        self._set_scene(np.eye(4, dtype=np.float32), (0, 0, 0))
        GL.glEnable(GL.GL_POLYGON_OFFSET_FILL)
        GL.glPolygonOffset(2.0, 4.0)
        casters = [(mesh, model) for mesh, model, *_ in self._still]
        if "casters" not in self.better:
            self._begin(self._shadow, depth=True)
            self._draw_casters(casters)
        else:
            if self._first:
                self._begin(self._still_shadow, depth=True)
                self._draw_casters(casters)
            GL.glBindFramebuffer(GL.GL_READ_FRAMEBUFFER, self._still_shadow.framebuffer)
            GL.glBindFramebuffer(GL.GL_DRAW_FRAMEBUFFER, self._shadow.framebuffer)
            size = (0, 0, _SHADOW, _SHADOW)
            GL.glBlitFramebuffer(*size, *size, GL.GL_DEPTH_BUFFER_BIT, GL.GL_NEAREST)
            GL.glBindFramebuffer(GL.GL_FRAMEBUFFER, self._shadow.framebuffer)
            GL.glViewport(0, 0, _SHADOW, _SHADOW)
            GL.glEnable(GL.GL_DEPTH_TEST)
        self._draw_casters([(self._tram_mesh, self._tram(frame))])
        GL.glDisable(GL.GL_POLYGON_OFFSET_FILL)

    def _draw_casters(self, casters: Iterable[tuple[MeshBuffer, Matrix]]) -> None:
        GL.glUseProgram(self._depth.handle)
        for mesh, model in casters:
            GL.glUniformMatrix4fv(self._depth.location("model"), 1, True, model)
            GL.glBindVertexArray(mesh.vertex_array)
            GL.glDrawElements(GL.GL_TRIANGLES, mesh.count, GL.GL_UNSIGNED_INT, None)

    def _view(
        self,
        eye: tuple[float, float, float],
        at: tuple[float, float, float],
        target: RenderTarget | None,
        frame: int,
        screens: bool,
    ) -> None:
        width, height = (target.width, target.height) if target else (self.width, self.height)
        self._set_scene(geo.perspective(66, width / height, 0.2, 60) @ geo.look_at(eye, at), eye)
        self._begin(target, depth=True)
        GL.glUseProgram(self._lit.handle)
        for unit, (name, handle) in enumerate((("surface", self._white), ("shadow", self._shadow.texture))):
            GL.glActiveTexture(GL.GL_TEXTURE0 + unit)
            GL.glBindTexture(GL.GL_TEXTURE_2D, handle)
            GL.glUniform1i(self._lit.location(name), unit)
        things = [*self._still, (self._tram_mesh, self._tram(frame), (0.62, 0.14, 0.1, 1.0), self._white, 0.1)]
        if screens:
            white = (1.0, 1.0, 1.0, 1.0)
            town = self._whole_town if "panorama" in self.better else self._panorama
            things += [
                (self._square, place(0, 3.2, -16, 16, 2.5, 1), white, town.texture, 1.0),
                (self._square, place(-2.0, 2.6, -0.4, 1.1, 0.55, 1), white, self._timetable.texture, 1.0),
                (self._square, place(2.4, 2.6, -0.4, 0.8, 0.45, 1), white, self._monitor.texture, 1.0),
            ]
        GL.glActiveTexture(GL.GL_TEXTURE0)
        for mesh, model, tint, surface, glow in things:
            GL.glBindTexture(GL.GL_TEXTURE_2D, surface)
            GL.glUniformMatrix4fv(self._lit.location("model"), 1, True, model)
            GL.glUniform4f(self._lit.location("tint"), *tint)
            GL.glUniform1f(self._lit.location("glow"), glow)
            GL.glBindVertexArray(mesh.vertex_array)
            GL.glDrawElements(GL.GL_TRIANGLES, mesh.count, GL.GL_UNSIGNED_INT, None)


def _tram_parts() -> list[Matrix]:
    return [place(0, 1.2, 0, 3.2, 1.0, 0.9), place(0, 2.3, 0, 2.8, 0.12, 0.8), place(-2.0, 0.1, 0, 0.7, 0.15, 0.8),
            place(2.0, 0.1, 0, 0.7, 0.15, 0.8)]  # fmt: skip


def _houses() -> list[tuple[int, int, int, int, Colour]]:
    """(x, y, width, height, colour) of every wall and window of the town, in pixels."""
    random = np.random.default_rng(5)
    found: list[tuple[int, int, int, int, Colour]] = []
    x = 0
    while x < _LOOP - 60:
        width, height = int(random.integers(28, 58)), int(random.integers(50, 130))
        shade = float(random.uniform(0.05, 0.11))
        found.append((x, 0, width, height, (shade, shade, shade * 1.4, 1.0)))
        for row in range(8, height - 10, 14):
            for column in range(5, width - 8, 11):
                lit = float(random.uniform(0.0, 1.0)) > 0.55
                tint = (0.9, 0.72, 0.4, 1.0) if lit else (0.03, 0.03, 0.05, 1.0)
                found.append((x + column, row, 6, 8, tint))
        x += width + int(random.integers(2, 10))
    return found
