"""The yard seen from the signal box: thousands of small things in a small picture, each drawn by a call of its own."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from OpenGL import GL

from wendascope.demo import geometry as geo
from wendascope.demo.geometry import Matrix, Mesh, place
from wendascope.demo.resources import SCENE_BINDING, MeshBuffer, Program, plain, speckle, texture

Colour = tuple[float, float, float, float]
Place = tuple[Matrix, Colour]
TRACKS, SLEEPERS = 12, 180
LAMPS, SIGNALS = 26, 16
"""Of each track."""
_STEEL, _WOOD, _IRON = (0.5, 0.52, 0.56, 0.05), (0.42, 0.3, 0.22, 0.0), (0.3, 0.3, 0.33, 0.0)
_RED, _GREEN, _AMBER = (1.0, 0.2, 0.12, 1.2), (0.2, 1.0, 0.45, 1.2), (1.0, 0.75, 0.35, 1.4)


class SignalBox:
    """All objects of the yard. Needs a current context; `better` names the flaws to leave out: `instancing`, `merging`
    and `state` do something here.
    """

    def __init__(self, width: int, height: int, better: frozenset[str]) -> None:
        self.width, self.height, self.better = width, height, better
        one_by_one, instanced = Program("yard.vert", "yard.frag"), Program("yard.vert", "yard.frag", ("INSTANCED",))
        self._program = instanced if "instancing" in better else one_by_one
        self._white, self._wood = texture(plain(255, 255, 255)), texture(speckle(64, 1, 120, 210, 4))
        self._scene = GL.glGenBuffers(1)
        GL.glBindBuffer(GL.GL_UNIFORM_BUFFER, self._scene)
        GL.glBufferData(GL.GL_UNIFORM_BUFFER, 16 * 15, None, GL.GL_DYNAMIC_DRAW)
        GL.glBindBufferBase(GL.GL_UNIFORM_BUFFER, SCENE_BINDING, self._scene)
        self._kinds: list[tuple[MeshBuffer, int, list[Place]]] = []
        self._last: dict[str, object] = {}
        self._fill()

    # ---- what there is ------------------------------------------------------------------------------------

    def _fill(self) -> None:
        random = np.random.default_rng(11)
        xs = [(track - (TRACKS - 1) / 2) * 3.4 for track in range(TRACKS)]
        ground = (place(0, -0.3, -60, 60, 0.2, 90), (0.16, 0.15, 0.15, 0.0))
        self._add(geo.box(), self._wood, [ground])
        self._add(
            geo.box(),
            self._white,
            [(place(x + s * 0.72, 0.12, -60, 0.05, 0.06, 85), _STEEL) for x in xs for s in (-1, 1)],
        )
        depth = [20 - i * 0.85 for i in range(SLEEPERS)]
        shade = random.uniform(0.75, 1.1, (TRACKS, SLEEPERS))
        self._add(
            geo.box(), self._wood,
            [(place(x, 0.0, z, 1.2, 0.05, 0.14), (*(c * shade[t, i] for c in _WOOD[:3]), 0.0))
             for t, x in enumerate(xs) for i, z in enumerate(depth)],
        )  # fmt: skip
        sides = [-0.9 if i % 2 else 0.9 for i in range(SLEEPERS)]
        bolts = [
            (place(x + s, 0.08, z, 0.05, 0.05, 0.05), _STEEL) for x in xs for s, z in zip(sides, depth, strict=True)
        ]
        self._add(geo.cylinder(5, caps=False), self._white, bolts)
        posts: list[Place] = []
        glows: list[Place] = []
        for track, x in enumerate(xs):
            for lamp in range(LAMPS):
                z = 18 - lamp * 5.6 - (track % 3)
                posts.append((place(x + 1.7, 1.6, z, 0.05, 1.7, 0.05), _IRON))
                glows.append((place(x + 1.7, 3.4, z, 0.16, 0.12, 0.16), _AMBER))
        self._add(geo.cylinder(5), self._white, posts)
        self._add(geo.cylinder(6), self._white, glows)
        self._signals(xs)

    def _signals(self, xs: list[float]) -> None:
        """Posts, heads and lights: three meshes for each signal, or one where they are merged."""
        masts: list[Place] = []
        heads: list[Place] = []
        lights: list[Place] = []
        for track, x in enumerate(xs):
            for signal in range(SIGNALS):
                z = 15 - signal * 9.1 - (track % 4) * 1.3
                masts.append((place(x - 1.5, 1.0, z, 0.06, 1.1, 0.06), _IRON))
                heads.append((place(x - 1.5, 2.3, z, 0.2, 0.45, 0.12), (0.1, 0.1, 0.12, 0.0)))
                colour = _RED if (track + signal) % 3 else _GREEN
                lights.append((place(x - 1.5, 2.4 if colour is _RED else 2.15, z + 0.13, 0.09, 0.09, 0.02), colour))
        if "merging" in self.better:
            self._add(geo.box(), self._white, [*masts, *heads])
        else:
            self._add(geo.box(), self._white, masts)
            self._add(geo.box(), self._white, heads)
        self._add(geo.box(), self._white, lights)

    def _add(self, shape: Mesh, surface: int, places: list[Place]) -> None:
        rows = np.array([[*model.T.ravel(), *tint] for model, tint in places], np.float32)
        self._kinds.append((MeshBuffer(shape, rows if "instancing" in self.better else None), surface, places))

    # ---- one frame ---------------------------------------------------------------------------------------------

    def draw(self, frame: int) -> None:
        """Draw frame number `frame`; the same number gives the same picture."""
        self._last.clear()
        eye = (4.0 * np.sin(frame / 240.0), 9.0, 27.0)
        view = geo.perspective(58, self.width / self.height, 0.3, 200) @ geo.look_at(eye, (0, 1.5, -20))
        data = np.zeros((15, 4), np.float32)
        data[0:4] = view.T
        data[8, :3] = eye
        GL.glBindBuffer(GL.GL_UNIFORM_BUFFER, self._scene)
        GL.glBufferSubData(GL.GL_UNIFORM_BUFFER, 0, data.nbytes, data)
        GL.glBindFramebuffer(GL.GL_FRAMEBUFFER, 0)
        GL.glViewport(0, 0, self.width, self.height)
        GL.glClearColor(0.05, 0.06, 0.09, 1.0)
        GL.glEnable(GL.GL_DEPTH_TEST)
        GL.glClear(GL.GL_COLOR_BUFFER_BIT | GL.GL_DEPTH_BUFFER_BIT)
        for mesh, surface, places in self._kinds:
            if mesh.instances:
                self._bind(mesh, surface)
                GL.glDrawElementsInstanced(GL.GL_TRIANGLES, mesh.count, GL.GL_UNSIGNED_INT, None, mesh.instances)
                continue
            for model, tint in places:
                self._bind(mesh, surface)
                GL.glUniformMatrix4fv(self._program.location("model"), 1, True, model)
                GL.glUniform4f(self._program.location("tint"), *tint)
                GL.glDrawElements(GL.GL_TRIANGLES, mesh.count, GL.GL_UNSIGNED_INT, None)

    def _bind(self, mesh: MeshBuffer, surface: int) -> None:
        program = self._program
        self._set("program", program.handle, lambda: GL.glUseProgram(program.handle))
        self._set("depth test", True, lambda: GL.glEnable(GL.GL_DEPTH_TEST))
        self._set("depth function", True, lambda: GL.glDepthFunc(GL.GL_LESS))
        self._set("culling", False, lambda: GL.glDisable(GL.GL_CULL_FACE))
        self._set("unit", 0, lambda: GL.glActiveTexture(GL.GL_TEXTURE0))
        self._set("texture", surface, lambda: GL.glBindTexture(GL.GL_TEXTURE_2D, surface))
        self._set("surface", 0, lambda: GL.glUniform1i(program.location("surface"), 0))
        self._set("vertex array", mesh.vertex_array, lambda: GL.glBindVertexArray(mesh.vertex_array))

    def _set(self, key: str, value: object, setter: Callable[[], object]) -> None:
        """Set a piece of state: always in the naive version, only when it changes in the better one."""
        if "state" not in self.better or self._last.get(key) != value:
            self._last[key] = value
            setter()
