"""The depot's store room, whose memory is kept badly: what is loaded is larger, or more, than the picture needs."""

from __future__ import annotations

import ctypes

import numpy as np
from OpenGL import GL

from wendascope.demo import geometry as geo
from wendascope.demo.debug_groups import debug_group, label
from wendascope.demo.geometry import Matrix, Mesh, place
from wendascope.demo.resources import (
    SCENE_BINDING,
    MeshBuffer,
    Program,
    RenderTarget,
    plain,
    poster,
    speckle,
    texture,
)

_POSTER, _SMALL_POSTER, _FLOOR, _CRATE = 2048, 64, 1024, 256
_FLOOR_REPEATS = 14.0
_KINDS = 10
"""Kinds of spare wheels in the stock's buffer, of which one is on the shelf."""
_SIDES = 160
_LEAKED, _LEAK_EVERY = 256, 60
"""Width and height of a texture that is never freed, and how many frames lie between two of them."""


class StoreRoom:
    """All objects of the store room. Needs a current context; `better` names the flaws to leave out: `poster`, `twins`,
    `deep-target`, `mip-levels` and `stock` do something here, and `leak` does where `worse` names it.
    """

    def __init__(self, width: int, height: int, better: frozenset[str], worse: frozenset[str] = frozenset()) -> None:
        self.width, self.height, self.better, self.worse = width, height, better, worse
        self._lit, self._shown = Program("material.vert", "store.frag"), Program("screen.vert", "shown.frag")
        self._scene = GL.glGenBuffers(1)
        GL.glBindBuffer(GL.GL_UNIFORM_BUFFER, self._scene)
        GL.glBufferData(GL.GL_UNIFORM_BUFFER, 16 * 15, None, GL.GL_DYNAMIC_DRAW)
        GL.glBindBufferBase(GL.GL_UNIFORM_BUFFER, SCENE_BINDING, self._scene)
        self._target = self._make_target()
        self._empty = GL.glGenVertexArrays(1)
        size = _SMALL_POSTER if "poster" in better else _POSTER
        self._poster = label(GL.GL_TEXTURE, texture(poster(3, size), repeat=False), "poster")
        self._crate = label(GL.GL_TEXTURE, texture(speckle(_CRATE, 8, 90, 170, 4)), "crate")
        twin = self._crate if "twins" in better else texture(speckle(_CRATE, 8, 90, 170, 4))
        self._twin = twin if "twins" in better else label(GL.GL_TEXTURE, twin, "crate again")
        self._floor = label(GL.GL_TEXTURE, self._make_floor(), "floor")
        self._white = texture(plain(255, 255, 255))
        self._box, self._square = MeshBuffer(geo.box()), MeshBuffer(geo.quad())
        self._ground = MeshBuffer(_ground())
        self._wheel = self._make_stock()

    def _make_target(self) -> RenderTarget:
        internal = GL.GL_RGBA8 if "deep-target" in self.better else GL.GL_RGBA32F
        target = RenderTarget(self.width, self.height, internal, "renderbuffer")
        label(GL.GL_TEXTURE, target.texture, "room")
        return target

    def _make_floor(self) -> int:
        """A floor of fine stones, with its mip levels or without."""
        pixels = speckle(_FLOOR, 5, 40, 190, 2)
        if "mip-levels" in self.better:
            return texture(pixels)
        name = int(GL.glGenTextures(1))
        GL.glBindTexture(GL.GL_TEXTURE_2D, name)
        size = (GL.GL_RGBA8, _FLOOR, _FLOOR, 0, GL.GL_RGBA, GL.GL_UNSIGNED_BYTE)
        GL.glTexImage2D(GL.GL_TEXTURE_2D, 0, *size, np.ascontiguousarray(pixels))
        for pname in (GL.GL_TEXTURE_MIN_FILTER, GL.GL_TEXTURE_MAG_FILTER):
            GL.glTexParameteri(GL.GL_TEXTURE_2D, pname, GL.GL_LINEAR)
        return name

    def _make_stock(self) -> MeshBuffer:
        """Spare wheels of all kinds in one buffer, or only of the kind that is on the shelf."""
        wheel = geo.cylinder(_SIDES)
        kinds = 1 if "stock" in self.better else _KINDS
        found = MeshBuffer(geo.merged([wheel.moved(place(0, 0, 0, 1 + 0.1 * k, 1, 1 + 0.1 * k)) for k in range(kinds)]))
        found.count = len(wheel.indices)
        label(GL.GL_BUFFER, found.vertices, "stock of wheels")
        return found

    # ---- one frame ---------------------------------------------------------------------------------------------

    def draw(self, frame: int) -> None:
        """Draw frame number `frame`; the same number gives the same picture."""
        if "leak" in self.worse and frame % _LEAK_EVERY == 0:
            with debug_group("delivery note"):
                texture(speckle(_LEAKED, frame, 40, 220, 4))  # nobody keeps its name
        with debug_group("room"):
            self._draw_room(frame)
        with debug_group("picture"):
            self._show()

    def _draw_room(self, frame: int) -> None:
        target = self._target
        GL.glBindFramebuffer(GL.GL_FRAMEBUFFER, target.framebuffer)
        GL.glViewport(0, 0, target.width, target.height)
        GL.glEnable(GL.GL_DEPTH_TEST)
        GL.glClearColor(0.01, 0.01, 0.015, 1.0)
        GL.glClear(GL.GL_COLOR_BUFFER_BIT | GL.GL_DEPTH_BUFFER_BIT)
        eye = (1.2 * float(np.sin(frame / 200.0)), 1.7, 4.2)
        view = geo.perspective(58, target.width / target.height, 0.1, 60) @ geo.look_at(eye, (0, 1.3, -4))
        data = np.zeros((15, 4), np.float32)
        data[0:4] = view.T
        data[8, :3] = eye
        data[13] = (0, 0, 0, 1)
        GL.glBindBuffer(GL.GL_UNIFORM_BUFFER, self._scene)
        GL.glBufferSubData(GL.GL_UNIFORM_BUFFER, 0, data.nbytes, data)
        GL.glUseProgram(self._lit.handle)
        GL.glActiveTexture(GL.GL_TEXTURE0)
        GL.glUniform1i(self._lit.location("surface"), 0)
        wood, grey, plain_white = (0.75, 0.55, 0.35), (0.6, 0.6, 0.62), (1.0, 1.0, 1.0)
        self._draw(self._ground, self._floor, place(0, 0, -3), grey)
        self._draw(self._box, self._white, place(0, 2.4, -9, 7, 2.8, 0.1), (0.4, 0.38, 0.36))
        self._draw(self._square, self._poster, place(1.6, 3.1, -8.85, 0.6, 0.6, 1), plain_white)
        for shelf in range(3):
            self._draw(self._box, self._white, place(0, 0.75 * shelf + 0.02, -6, 3.4, 0.03, 0.45), (0.3, 0.3, 0.32))
            for k in range(6):
                surface = self._twin if (k + shelf) % 2 else self._crate
                self._draw(self._box, surface, place(-2.6 + k, 0.75 * shelf + 0.33, -6, 0.32, 0.28, 0.3), wood)
        for k in range(5):
            self._draw(self._wheel, self._white, place(-3.4 + 0.25 * k, 0.06 + 0.13 * k, -2.5, 0.5, 0.06, 0.5), grey)

    def _draw(self, mesh: MeshBuffer, surface: int, model: Matrix, tint: tuple[float, float, float]) -> None:
        GL.glBindTexture(GL.GL_TEXTURE_2D, surface)
        GL.glUniformMatrix4fv(self._lit.location("model"), 1, True, model)
        GL.glUniform4f(self._lit.location("tint"), *tint, 1.0)
        GL.glBindVertexArray(mesh.vertex_array)
        GL.glDrawElements(GL.GL_TRIANGLES, mesh.count, GL.GL_UNSIGNED_INT, ctypes.c_void_p(0))

    def _show(self) -> None:
        GL.glBindFramebuffer(GL.GL_FRAMEBUFFER, 0)
        GL.glViewport(0, 0, self.width, self.height)
        GL.glDisable(GL.GL_DEPTH_TEST)
        GL.glUseProgram(self._shown.handle)
        GL.glBindTexture(GL.GL_TEXTURE_2D, self._target.texture)
        GL.glUniform1i(self._shown.location("picture"), 0)
        GL.glBindVertexArray(self._empty)
        GL.glDrawArrays(GL.GL_TRIANGLES, 0, 3)


def _ground() -> Mesh:
    """A square of the floor whose texture comes many times."""
    square = geo.quad()
    vertices = square.vertices.copy()
    vertices[:, 6:8] *= _FLOOR_REPEATS
    turned = np.array([[7, 0, 0, 0], [0, 0, 1, 0], [0, -7, 0, 0], [0, 0, 0, 1]], np.float32)
    vertices[:, :3] = vertices[:, :3] @ turned[:3, :3].T
    vertices[:, 3:6] = (0, 1, 0)
    return Mesh(vertices, square.indices)
