"""The depot: what stands in it, and the passes that draw one frame of it."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

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
    poster,
    speckle,
    streaks,
    texture,
)

POSTERS = 24
SLEEPERS = 96
_LAMPS = [(x, 5.6, z) for z in (9.0, -12.0) for x in (-4.2, 4.2)]
_BOARD = (
    "DEPARTURES",
    "2 HARBOUR    00:14",
    "7 OBSERVATORY 00:17",
    "4 GASWORKS   00:21",
    "9 LAST TRAM  00:40",
    "MIND THE WET RAILS",
)
_SHADOW_SIZE = 2048


@dataclass
class Item:
    """One thing to draw."""

    mesh: MeshBuffer
    model: Matrix
    texture: int
    tint: tuple[float, float, float, float]
    glow: float = 0.0
    kind: str = "thing"


class Depot:
    """All objects of the scene. Needs a current context; `better` names the flaws to leave out."""

    def __init__(self, width: int, height: int, better: frozenset[str]) -> None:
        self.width, self.height, self.better = width, height, better
        wasteful = () if "shaders" in better else ("WASTEFUL",)
        self.material = Program("material.vert", "material.frag", wasteful)
        self.material_instanced = Program("material.vert", "material.frag", (*wasteful, "INSTANCED"))
        self.depth = Program("depth.vert", "depth.frag")
        self.depth_instanced = Program("depth.vert", "depth.frag", ("INSTANCED",))
        self.floor = Program("material.vert", "floor.frag")
        self.rain = Program("screen.vert", "rain.frag")
        self.steam = Program("screen.vert", "steam.frag")
        self.glow = Program("screen.vert", "glow.frag")
        self.soften = Program("screen.vert", "soften.frag")
        self.grade = Program("screen.vert", "grade.frag")
        self.board = Program("board.vert", "board.frag", ("INSTANCED",) if "board" in better else ())
        self._make_textures()
        self._make_targets()
        self._make_things()
        self._make_board()
        self.scene_buffer = GL.glGenBuffers(1)
        GL.glBindBuffer(GL.GL_UNIFORM_BUFFER, self.scene_buffer)
        GL.glBufferData(GL.GL_UNIFORM_BUFFER, 16 * 15, None, GL.GL_DYNAMIC_DRAW)
        GL.glBindBufferBase(GL.GL_UNIFORM_BUFFER, SCENE_BINDING, self.scene_buffer)
        self.empty = GL.glGenVertexArrays(1)
        self._last: dict[str, object] = {}

    # ---- what there is ------------------------------------------------------------------------------

    def _make_textures(self) -> None:
        self.white = texture(plain(255, 255, 255))
        self.wood = texture(speckle(64, 1, 90, 150, 4))
        self.stone = texture(speckle(128, 2, 70, 150))
        self.roughness = texture(speckle(64, 3, 40, 220, 2))
        self.wetness = texture(speckle(64, 4, 60, 255, 8))
        self.streaks = texture(streaks(128, 5))
        self.letters = texture(letter_sheet(), repeat=False)
        if "atlas" in self.better:
            sheet = np.concatenate([np.concatenate([poster(r * 6 + c) for c in range(6)], 1) for r in range(4)], 0)
            self.posters = [texture(sheet, repeat=False)]
        else:
            self.posters = [texture(poster(i), repeat=False) for i in range(POSTERS)]

    def _make_targets(self) -> None:
        w, h = self.width, self.height
        small = 2 if "mirror" in self.better else 1
        self.shadow = RenderTarget(_SHADOW_SIZE, _SHADOW_SIZE, None, "texture")
        self.camera = RenderTarget(512, 288, GL.GL_RGBA8, "renderbuffer")
        self.mirror = RenderTarget(w // small, h // small, GL.GL_RGBA8, "renderbuffer")
        self.hall = RenderTarget(w, h, GL.GL_R11F_G11F_B10F, "renderbuffer")
        self.halo = [RenderTarget(w // 4, h // 4, GL.GL_RGBA8, None) for _ in range(2)]

    def _make_things(self) -> None:
        cube, square = geo.box(), geo.quad()
        self.cube, self.square = MeshBuffer(cube), MeshBuffer(square)
        self.wheel = MeshBuffer(geo.cylinder(20))
        self.bolt = MeshBuffer(geo.cylinder(6))
        self.lamp = MeshBuffer(geo.cylinder(12))
        grey, steel = (0.5, 0.5, 0.52, 1.0), (0.42, 0.43, 0.46, 1.0)
        self.items = [
            Item(self.cube, place(0, 3.2, -34, 9, 3.4, 0.3), self.stone, grey, kind="wall"),
            Item(self.cube, place(-9, 3.2, -6, 0.3, 3.4, 28), self.stone, grey, kind="wall"),
            Item(self.cube, place(9, 3.2, -6, 0.3, 3.4, 28), self.stone, grey, kind="wall"),
            Item(self.cube, place(0, 6.8, -6, 9.3, 0.15, 28), self.stone, (0.3, 0.3, 0.33, 1.0), kind="wall"),
        ]
        for x in (-3.72, -2.28, 2.28, 3.72):
            self.items.append(Item(self.cube, place(x, 0.14, -6, 0.05, 0.05, 28), self.white, steel, kind="rail"))
        self.items += [
            Item(self.lamp, place(x, y + 0.2, z, 0.22, 0.1, 0.22), self.white, (1.0, 0.8, 0.5, 1.0), 4.0, "lamp")
            for x, y, z in _LAMPS
        ]
        self._make_rails()
        self._make_trams(cube)
        self._make_posters(square)
        fine = 260 if "ballast" in self.better else 2600
        self.items.append(
            Item(
                MeshBuffer(geo.stones(fine, 1.3, 27, 6)),
                place(-3, 0, -6),
                self.stone,
                (0.55, 0.53, 0.5, 1.0),
                kind="ballast",
            )
        )
        # the security camera's screen on the left wall
        self.items.append(
            Item(
                self.square,
                place(-8.66, 3.9, 9.0, 1.1, 0.62, 1.0, np.pi / 2),
                self.camera.texture,
                (1, 1, 1, 1),
                0.9,
                "screen",
            )
        )

    def _make_rails(self) -> None:
        random = np.random.default_rng(7)
        sleepers, bolts = [], []
        for i in range(SLEEPERS):
            x, z = (-3.0, 3.0)[i % 2], 20.0 - (i // 2) * 1.1
            sleepers.append((place(x, 0.05, z, 1.15, 0.06, 0.14), (0.42, *random.uniform(0.25, 0.33, 2), 1.0)))
            bolts.append(
                (place(x - 0.72 if i % 4 < 2 else x + 0.72, 0.14, z + 0.08, 0.05, 0.04, 0.05), (0.55, 0.52, 0.5, 1.0))
            )
        self.sleepers = self._repeated(self.cube, geo.box(), sleepers, self.wood, "sleeper")
        self.bolts = self._repeated(self.bolt, geo.cylinder(6), bolts, self.white, "bolt")

    def _repeated(
        self,
        mesh: MeshBuffer,
        shape: geo.Mesh,
        places: list[tuple[Matrix, tuple[float, float, float, float]]],
        surface: int,
        kind: str,
    ) -> MeshBuffer | None:
        """Many copies: as items, or in the better version as one instanced mesh."""
        if "instancing" not in self.better:
            self.items += [Item(mesh, model, surface, tint, kind=kind) for model, tint in places]
            return None
        rows = np.array([[*model.T.ravel(), *tint] for model, tint in places], np.float32)
        return MeshBuffer(shape, rows)

    def _make_trams(self, cube: geo.Mesh) -> None:
        """Three trams of parts that share one material."""
        for number, (x, z) in enumerate(((-3.0, 4.0), (3.0, -4.0), (-3.0, -17.0))):
            parts = [
                geo.box().moved(place(0, 1.75, 0, 1.1, 1.15, 4.2)),
                geo.box().moved(place(0, 3.0, 0, 0.9, 0.12, 3.8)),
            ]
            parts += [cube.moved(place(0, 0.52, s * 2.6, 1.0, 0.1, 0.9)) for s in (-1, 1)]
            parts += [
                geo.cylinder(20).moved(_lying(sx * 0.72, 0.42, sz * 2.6, 0.34, 0.08))
                for sx in (-1, 1)
                for sz in (-1.12, -0.88, 0.88, 1.12)
            ]
            parts += [cube.moved(place(s * 1.12, 2.55, 0, 0.03, 0.05, 4.0)) for s in (-1, 1)]
            parts += [cube.moved(place(s * 0.8, 1.0, 4.24, 0.14, 0.1, 0.05)) for s in (-1, 1)]
            body = ((0.72, 0.16, 0.12, 1.0), (0.12, 0.36, 0.52, 1.0), (0.78, 0.62, 0.2, 1.0))[number]
            if "merging" in self.better:
                parts = [geo.merged(parts)]
            self.items += [Item(MeshBuffer(part), place(x, 0, z), self.white, body, kind="tram") for part in parts]
            windows = [
                cube.moved(place(s * 1.11, 2.1, -3.3 + k * 1.1, 0.03, 0.36, 0.42)) for s in (-1, 1) for k in range(7)
            ]
            windows.append(cube.moved(place(0, 2.1, 4.21, 0.8, 0.36, 0.03)))
            if "merging" in self.better:
                windows = [geo.merged(windows)]
            self.items += [
                Item(MeshBuffer(w), place(x, 0, z), self.white, (1.0, 0.86, 0.55, 1.0), 1.1, "window") for w in windows
            ]

    def _make_posters(self, square: geo.Mesh) -> None:
        shapes = []
        for i in range(POSTERS):
            side = -1 if i % 2 else 1
            model = place(side * 8.65, 2.2 + (i % 3) * 0.25, 17 - (i // 2) * 3.6, 0.8, 0.8, 1.0, -side * np.pi / 2)
            if "atlas" not in self.better:
                self.items.append(Item(self.square, model, self.posters[i], (1, 1, 1, 1), 0.05, "poster"))
                continue
            moved = square.moved(model)
            row, column = divmod(i, 6)
            moved.vertices[:, 6] = (moved.vertices[:, 6] + column) / 6
            moved.vertices[:, 7] = (moved.vertices[:, 7] + row) / 4
            shapes.append(moved)
        if shapes:
            self.items.append(
                Item(MeshBuffer(geo.merged(shapes)), place(0, 0, 0), self.posters[0], (1, 1, 1, 1), 0.05, "poster")
            )

    def _make_board(self) -> None:
        boxes = []
        for row, line in enumerate(_BOARD):
            for column, letter in enumerate(line):
                if letter != " ":
                    glyph = (LETTERS.index(letter) / len(LETTERS), 0.0, 1 / len(LETTERS), 1.0)
                    boxes.append((-0.95 + column * 0.021, 0.87 - row * 0.07, 0.022, 0.06, *glyph))
        self.letters_at = np.array(boxes, np.float32)
        self.glyphs = GlyphBuffer(self.letters_at if "board" in self.better else None)

    # ---- one frame -----------------------------------------------------------------------------------

    def draw(self, frame: int) -> None:
        """Draw frame number `frame`; the same number gives the same picture."""
        time = frame / 60.0
        self._last.clear()
        self._scene(self._shadow_view(), self._shadow_view(), (6, 18, 8), (0, 0, 0, 1), _SHADOW_SIZE, _SHADOW_SIZE)
        with debug_group("shadow"):
            self._begin(self.shadow, GL.GL_DEPTH_BUFFER_BIT)
            GL.glEnable(GL.GL_POLYGON_OFFSET_FILL)
            GL.glPolygonOffset(2.0, 4.0)
            casters = {"wall", "tram", "lamp"} if "shadow" in self.better else None
            self._draw_depth(casters)
            GL.glDisable(GL.GL_POLYGON_OFFSET_FILL)
        if "camera" not in self.better or frame % 8 == 0:
            self._view(geo.look_at((6.5, 5.5, 12), (-2, 1, -6)), 70, (6.5, 5.5, 12), (0, 0, 0, 1), self.camera)
            with debug_group("camera"):
                self._begin(self.camera, GL.GL_COLOR_BUFFER_BIT | GL.GL_DEPTH_BUFFER_BIT)
                self._draw_things(time, {"wall", "tram", "window", "lamp", "rail", "sleeper"})
        eye = (0.6 + 0.2 * np.sin(time * 0.3), 2.6, 19.0)
        self._view(
            geo.look_at((eye[0], -eye[1], eye[2]), (0, -1.2, -6)),
            62,
            (eye[0], -eye[1], eye[2]),
            (0, 1, 0, -0.0),
            self.mirror,
            flip=True,
        )
        with debug_group("mirror"):
            self._begin(self.mirror, GL.GL_COLOR_BUFFER_BIT | GL.GL_DEPTH_BUFFER_BIT)
            GL.glEnable(GL.GL_CLIP_DISTANCE0)
            self._draw_things(time, {"wall", "tram", "window", "lamp", "poster", "rail", "screen"}, mirrored=True)
            GL.glDisable(GL.GL_CLIP_DISTANCE0)
        self._view(geo.look_at(eye, (0, 1.2, -6)), 62, eye, (0, 0, 0, 1), self.hall)
        with debug_group("depot"):
            self._begin(self.hall, GL.GL_COLOR_BUFFER_BIT | GL.GL_DEPTH_BUFFER_BIT)
            self._draw_floor(time)
            self._draw_things(time, None)
        with debug_group("rain"):
            self._draw_rain(time)
        with debug_group("glow"):
            self._screen_pass(self.halo[0], self.glow, {"picture": self.hall.texture})
        with debug_group("soften across"):
            self._screen_pass(
                self.halo[1], self.soften, {"picture": self.halo[0].texture}, along=(1.5 / self.width * 4, 0.0)
            )
        with debug_group("soften down"):
            self._screen_pass(
                self.halo[0], self.soften, {"picture": self.halo[1].texture}, along=(0.0, 1.5 / self.height * 4)
            )
        with debug_group("grade"):
            GL.glBindFramebuffer(GL.GL_FRAMEBUFFER, 0)
            if "clear" not in self.better:
                GL.glClear(GL.GL_COLOR_BUFFER_BIT | GL.GL_DEPTH_BUFFER_BIT | GL.GL_STENCIL_BUFFER_BIT)
            rounds = 4 if "grade" in self.better else 10
            self._screen_pass(
                None,
                self.grade,
                {"picture": self.hall.texture, "halo": self.halo[0].texture},
                exposure=0.85,
                rounds=rounds,
            )
        with debug_group("board"):
            self._draw_board()

    def _shadow_view(self) -> Matrix:
        return (geo.orthographic(24, 1, 60) @ geo.look_at((12, 30, 14), (0, 0, -6))).astype(np.float32)

    def _view(
        self,
        look: Matrix,
        degrees: float,
        eye: tuple[float, float, float],
        clip: tuple[float, float, float, float],
        target: RenderTarget,
        flip: bool = False,
    ) -> None:
        projection = geo.perspective(degrees, target.width / target.height, 0.3, 90)
        if flip:  # the mirror is looked up by screen position
            projection = np.diag([1, -1, 1, 1]).astype(np.float32) @ projection
        self._scene(projection @ look, self._shadow_view(), eye, clip, target.width, target.height)

    def _scene(
        self,
        view_projection: Matrix,
        light: Matrix,
        eye: tuple[float, float, float],
        clip: tuple[float, float, float, float],
        width: int,
        height: int,
    ) -> None:
        data = np.zeros((15, 4), np.float32)
        data[0:4] = view_projection.T
        data[4:8] = light.T
        data[8, :3] = eye
        for i, lamp in enumerate(_LAMPS):
            data[9 + i] = (*lamp, 5.0)
        data[13] = clip
        data[14] = (width, height, 0, 0)
        GL.glBindBuffer(GL.GL_UNIFORM_BUFFER, self.scene_buffer)
        GL.glBufferSubData(GL.GL_UNIFORM_BUFFER, 0, data.nbytes, data)

    def _begin(self, target: RenderTarget, clear: int) -> None:
        GL.glBindFramebuffer(GL.GL_FRAMEBUFFER, target.framebuffer)
        GL.glViewport(0, 0, target.width, target.height)
        GL.glEnable(GL.GL_DEPTH_TEST)
        GL.glDepthMask(True)
        GL.glDisable(GL.GL_BLEND)
        GL.glClearColor(0.01, 0.012, 0.02, 1.0)
        GL.glClear(clear)

    def _set(self, key: str, value: object, setter: object, *arguments: object) -> None:
        """Set a piece of state: always in the naive version, only when it changes in the better one."""
        if "state" in self.better and self._last.get(key) == value:
            return
        self._last[key] = value
        setter(*arguments)  # type: ignore[operator]

    def _use(self, program: Program) -> None:
        self._set("program", program.handle, GL.glUseProgram, program.handle)

    def _texture(self, unit: int, name: int) -> None:
        def bind() -> None:
            GL.glActiveTexture(GL.GL_TEXTURE0 + unit)
            GL.glBindTexture(GL.GL_TEXTURE_2D, name)

        self._set(f"texture {unit}", name, bind)

    def _uniform(self, program: Program, name: str, value: object) -> None:
        location = program.location(name)
        key = f"{program.handle}.{name}"
        if isinstance(value, np.ndarray):
            GL.glUniformMatrix4fv(location, 1, True, value)
        elif isinstance(value, int):
            self._set(key, value, GL.glUniform1i, location, value)
        elif isinstance(value, float):
            self._set(key, value, GL.glUniform1f, location, value)
        elif isinstance(value, tuple) and len(value) == 2:
            self._set(key, value, GL.glUniform2f, location, *value)
        elif isinstance(value, tuple):
            self._set(key, value, GL.glUniform4f, location, *value)

    def _chosen(self, kinds: set[str] | None) -> Iterator[Item]:
        for item in self.items:
            if kinds is None or item.kind in kinds:
                yield item

    def _draw_depth(self, kinds: set[str] | None) -> None:
        for item in self._chosen(kinds):
            self._use(self.depth)
            self._set("culling", False, GL.glDisable, GL.GL_CULL_FACE)
            self._uniform(self.depth, "model", item.model)
            self._mesh(item.mesh)
        if kinds is None:
            self._draw_instanced(self.depth_instanced)

    def _mesh(self, mesh: MeshBuffer) -> None:
        self._set("vertex array", mesh.vertex_array, GL.glBindVertexArray, mesh.vertex_array)
        if mesh.instances:
            GL.glDrawElementsInstanced(GL.GL_TRIANGLES, mesh.count, GL.GL_UNSIGNED_INT, None, mesh.instances)
        else:
            GL.glDrawElements(GL.GL_TRIANGLES, mesh.count, GL.GL_UNSIGNED_INT, None)

    def _draw_instanced(self, program: Program, kinds: set[str] | None = None) -> None:
        for mesh, surface, kind in ((self.sleepers, self.wood, "sleeper"), (self.bolts, self.white, "bolt")):
            if mesh is None or (kinds is not None and kind not in kinds):
                continue
            self._use(program)
            if program is self.material_instanced:
                self._surfaces(program, surface)
                self._uniform(program, "glow", 0.0)
            self._mesh(mesh)

    def _surfaces(self, program: Program, surface: int) -> None:
        for unit, (name, handle) in enumerate(
            (
                ("surface", surface),
                ("roughness_map", self.roughness),
                ("wetness_map", self.wetness),
                ("shadow", self.shadow.texture),
            )
        ):
            self._texture(unit, handle)
            self._uniform(program, name, unit)
        self._uniform(program, "hour", 0.3)
        self._uniform(program, "snow", 0.0)

    def _draw_things(self, time: float, kinds: set[str] | None, mirrored: bool = False) -> None:
        for item in self._chosen(kinds):
            if item.kind == "screen" and kinds is not None and not mirrored:
                continue
            self._use(self.material)
            self._set("depth test", True, GL.glEnable, GL.GL_DEPTH_TEST)
            self._set("depth function", GL.GL_LESS, GL.glDepthFunc, GL.GL_LESS)
            self._set("culling", False, GL.glDisable, GL.GL_CULL_FACE)
            self._surfaces(self.material, item.texture)
            self._uniform(self.material, "model", item.model)
            self._uniform(self.material, "tint", item.tint)
            self._uniform(self.material, "glow", float(item.glow))
            self._mesh(item.mesh)
        self._draw_instanced(self.material_instanced, kinds)

    def _draw_floor(self, time: float) -> None:
        self._use(self.floor)
        self._texture(0, self.stone)
        self._texture(1, self.wetness)
        self._texture(2, self.mirror.texture)
        for unit, name in enumerate(("surface", "wetness_map", "mirror")):
            self._uniform(self.floor, name, unit)
        self._uniform(self.floor, "time", float(time))
        self._uniform(self.floor, "tint", (0.5, 0.5, 0.55, 1.0))
        turned = np.array([[9, 0, 0, 0], [0, 0, 1, 0], [0, -28, 0, -6], [0, 0, 0, 1]], np.float32)
        self._uniform(self.floor, "model", turned)
        self._mesh(self.square)

    def _draw_rain(self, time: float) -> None:
        GL.glEnable(GL.GL_BLEND)
        GL.glBlendFunc(GL.GL_SRC_ALPHA, GL.GL_ONE_MINUS_SRC_ALPHA)
        GL.glDepthMask(False)
        GL.glDisable(GL.GL_DEPTH_TEST)
        self._last.clear()
        sheets = 1 if "rain" in self.better else 2
        for sheet in range(sheets):
            self._use(self.rain)
            self._texture(0, self.streaks)
            self._uniform(self.rain, "streaks", 0)
            self._uniform(self.rain, "time", float(time))
            self._uniform(self.rain, "sheet", float(sheet))
            self._uniform(self.rain, "tint", (0.36, 0.42, 0.52, 0.38))
            self._screen()
        for cloud in range(0 if "rain" in self.better else 1):
            self._use(self.steam)
            self._uniform(self.steam, "time", float(time + cloud * 3.1))
            self._uniform(self.steam, "tint", (0.16, 0.17, 0.2, 0.16))
            self._screen()
        GL.glDisable(GL.GL_BLEND)

    def _screen(self) -> None:
        self._set("vertex array", self.empty, GL.glBindVertexArray, self.empty)
        GL.glDrawArrays(GL.GL_TRIANGLES, 0, 3)

    def _screen_pass(
        self, target: RenderTarget | None, program: Program, textures: dict[str, int], **uniforms: object
    ) -> None:
        GL.glBindFramebuffer(GL.GL_FRAMEBUFFER, target.framebuffer if target else 0)
        GL.glViewport(0, 0, *((target.width, target.height) if target else (self.width, self.height)))
        GL.glDisable(GL.GL_DEPTH_TEST)
        self._use(program)
        for unit, (name, handle) in enumerate(textures.items()):
            self._texture(unit, handle)
            self._uniform(program, name, unit)
        for name, value in uniforms.items():
            self._uniform(program, name, value)
        self._screen()

    def _draw_board(self) -> None:
        GL.glEnable(GL.GL_BLEND)
        GL.glBlendFunc(GL.GL_SRC_ALPHA, GL.GL_ONE_MINUS_SRC_ALPHA)
        GL.glBindVertexArray(self.glyphs.vertex_array)
        self._use(self.board)
        self._texture(0, self.letters)
        self._uniform(self.board, "letters", 0)
        self._uniform(self.board, "tint", (1.0, 0.74, 0.22, 1.0))
        if self.glyphs.instances:
            GL.glDrawArraysInstanced(GL.GL_TRIANGLE_STRIP, 0, 4, self.glyphs.instances)
        else:
            for letter in self.letters_at.tolist():
                self._use(self.board)
                self._texture(0, self.letters)
                self._uniform(self.board, "box", tuple(letter[:4]))
                self._uniform(self.board, "glyph", tuple(letter[4:]))
                GL.glDrawArrays(GL.GL_TRIANGLE_STRIP, 0, 4)
        GL.glDisable(GL.GL_BLEND)
        self._last.clear()


def _lying(x: float, y: float, z: float, radius: float, half: float) -> Matrix:
    """A cylinder whose axis lies along x."""
    return np.array([[0, half, 0, x], [radius, 0, 0, y], [0, 0, -radius, z], [0, 0, 0, 1]], np.float32)
