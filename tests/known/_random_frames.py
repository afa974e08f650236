"""Random small frames: state, programs, targets, reads, blits and uploads in any order; and a slow model that says
what becomes of them.

A frame is a list of operations, each of which is one OpenGL call. `program` draws it; `Model` works it out in
NumPy, an operation at a time, and knows nothing of OpenGL, of captures or of findings. Rectangles lie on the pixel
grid and colours add up without rounding, so that both agree exactly.

Frames read pixels, count fragments and capture vertices for the program besides drawing; what it gets belongs to the
result as the window does. In a sequence (`vary`) some operations take turns from frame to frame.
"""

from __future__ import annotations

import ctypes
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field

import numpy as np

WIDTH, HEIGHT = 160, 120
SIDE = (40, 30)
"""Width and height of the textures that are drawn into."""
TEXTURES = 4
WITH_DEPTH = (0, 1)
"""Targets that have a depth buffer: the window, 0, and the first texture."""
Colour = tuple[int, int, int, int]
DRAWS = ("draw", "clear", "blit", "named blit", "copy", "image copy")
CHOOSING = 3
"""The program that has subroutines."""
CAPTURED = 2
"""The program whose vertices may be captured."""


@dataclass(frozen=True)
class Op:
    """One call. `kind` names it; the rest are its arguments."""

    kind: str
    a: tuple = ()

    @property
    def is_step(self) -> bool:
        return self.kind in DRAWS


def make(seed: int) -> list[Op]:
    """The operations of one frame."""
    random = np.random.default_rng(seed)
    pick = lambda *of: of[int(random.integers(len(of)))]  # noqa: E731
    number = lambda low, high: int(random.integers(low, high))  # noqa: E731
    colour = lambda: tuple(20 + 5 * number(0, 47) for _ in range(4))  # noqa: E731
    ops: list[Op] = []
    program, target, texture, colours = 0, 0, 1, 0
    ops += [Op("target", (0,)), Op("program", (0,)), Op("texture", (1,))]
    passes = number(2, 6)
    for at in range(passes):
        target = 0 if at == passes - 1 else number(0, TEXTURES)
        ops.append(Op("target", (target,)))
        ops.append(Op("viewport", (target,)))
        if at == passes - 1:
            ops += [
                Op("disable", ("scissor",)),
                Op("colour mask", (1, 1, 1, 1)),
                Op("clear colour", colour()),
                Op("clear", (random.random() < 0.7,)),
            ]
        elif random.random() < 0.7:
            ops.append(Op("clear colour", colour()))
            ops.append(Op("clear", (random.random() < 0.7,)))
        for _ in range(number(2, 12)):
            width, height = (WIDTH, HEIGHT) if target == 0 else SIDE
            roll = random.random()
            if roll < 0.08:
                cap = pick("depth", "blend", "scissor")
                ops.append(Op(pick("enable", "disable"), (cap,)))
            elif roll < 0.12:
                ops.append(Op("depth func", (pick("less", "lequal", "always"),)))
            elif roll < 0.15:
                ops.append(Op("depth mask", (pick(True, True, False),)))
            elif roll < 0.18:
                ops.append(Op("blend func", (pick("add", "copy", "keep"),)))
            elif roll < 0.21:
                ops.append(Op("colour mask", pick((1, 1, 1, 1), (1, 1, 1, 1), (1, 0, 0, 1), (0, 0, 0, 0))))
            elif roll < 0.24:
                x, y = number(0, width - 4), number(0, height - 4)
                ops.append(Op("scissor", (x, y, number(2, width), number(2, height))))
            elif roll < 0.27:
                ops.append(Op("upload", (number(1, TEXTURES), number(0, 5))))
            elif roll < 0.36:
                source, drain = number(0, TEXTURES), number(1, TEXTURES)
                if source != drain:
                    kind = pick("blit", "named blit", "copy", "image copy")
                    if kind in ("blit",):
                        ops += [
                            Op("read target", (source,)),
                            Op("draw target", (drain,)),
                            Op("blit"),
                            Op("target", (target,)),
                        ]
                    elif kind == "named blit":
                        ops.append(Op("named blit", (source, drain)))
                    elif kind == "image copy" and source:
                        ops.append(Op("image copy", (source, drain)))
                    else:
                        ops += [
                            Op("read target", (source,)),
                            Op("texture", (drain,)),
                            Op("copy"),
                            Op("target", (target,)),
                        ]
                        texture = drain
            else:
                if random.random() < 0.3:
                    program = number(0, 4)
                    ops.append(Op("program", (program,)))
                elif random.random() < 0.3:
                    ops.append(Op("program", (program,)))  # once more
                if random.random() < 0.3:
                    texture = number(1, TEXTURES)
                    ops.append(Op("texture", (texture,)))
                if program == 1 and texture == target:
                    texture = 1 + target % (TEXTURES - 1) if target < TEXTURES else 1
                    texture = texture if texture != target else texture % (TEXTURES - 1) + 1
                    ops.append(Op("texture", (texture,)))
                if program != 1 and random.random() < 0.8:
                    ops.append(Op("colour", (program, *colour())))
                    colours += 1
                if random.random() < 0.5:
                    ops.append(Op("depth", (program, number(-6, 7) / 8)))
                for _ in range(pick(1, 1, 1, 2, 6)):
                    if random.random() < 0.85:
                        x0, y0 = number(0, width - 1), number(0, height - 1)
                        if random.random() < 0.15:
                            x0, y0, x1, y1 = 0, 0, width, height
                        elif random.random() < 0.1:
                            x0, y0, x1, y1 = width + 2, 3, width + 9, 9
                        else:
                            x1, y1 = min(x0 + number(1, width), width), min(y0 + number(1, height), height)
                        ops.append(Op("place", (program, x0, y0, x1, y1, target)))
                    ops.append(Op("draw"))
    return [_on_grid(op) for op in _asking(ops, random)]


def _asking(ops: list[Op], random: np.random.Generator) -> list[Op]:
    """The operations with questions among them: pixels read, fragments counted, vertices captured, and subroutines
    chosen.
    """
    found: list[Op] = []
    counting = capturing = False
    program = 0
    for op in ops:
        roll = random.random()
        program = op.a[0] if op.kind == "program" else program
        if (counting or capturing) and (op.kind != "draw" or random.random() < 0.5):
            found.append(Op("end count" if counting else "end capture"))
            counting = capturing = False
        if op.kind == "draw" and roll < 0.04 and not counting and not capturing:
            found.append(Op("begin count", (int(random.integers(2)),)))
            counting = True
        elif op.kind == "draw" and roll < 0.2 and program == CAPTURED and not capturing and not counting:
            found.append(Op("begin capture"))
            capturing = True
        elif roll > 0.85 and program == CHOOSING and op.kind not in ("program", "draw"):
            found.append(Op("subroutine", (int(random.integers(2)),)))
        found.append(op)
        if op.kind == "program" and program == CHOOSING:  # what is chosen now is the driver's choice
            found.append(Op("subroutine", (int(random.integers(2)),)))
        if op.kind == "draw" and random.random() < 0.03:
            found.append(Op("read"))
    if counting or capturing:
        found.append(Op("end count" if counting else "end capture"))
    if any(op.kind == "end count" for op in found) and random.random() < 0.8:
        found.append(Op("get count"))
    if any(op.kind == "end capture" for op in found) and random.random() < 0.8:
        found.append(Op("get captured"))
    return found


_TURNS = {
    "colour": 0.3,
    "place": 0.15,
    "upload": 0.5,
    "texture": 0.2,
    "depth": 0.2,
    "blend func": 0.3,
    "subroutine": 0.5,
}
"""Kind of operation -> the share of them that takes turns in a sequence."""


def vary(ops: list[Op], number: int, seed: int) -> list[Op]:
    """The operations of one frame of a sequence: some of them take turns between two, others between three."""
    random, found = np.random.default_rng(seed + 1_000_000), []
    for op in ops:
        roll, period, other = random.random(), int(random.integers(2, 4)), random.integers(0, 47, 8)
        turn = number % period
        if roll < _TURNS.get(op.kind, 0.0) and turn:
            op = _otherwise(op, [int(v) + turn for v in other])
        found.append(op)
    return found


def _otherwise(op: Op, other: list[int]) -> Op:
    match op.kind:
        case "colour":
            return Op(op.kind, (op.a[0], *(20 + 5 * (v % 47) for v in other[:4])))
        case "upload":
            return Op(op.kind, (op.a[0], other[0] % 5))
        case "texture" | "subroutine":
            return Op(op.kind, ((1 + other[0] % (TEXTURES - 1)) if op.kind == "texture" else other[0] % 2,))
        case "depth":
            return Op(op.kind, (op.a[0], (other[0] % 13 - 6) / 8))
        case "blend func":
            return Op(op.kind, (("add", "copy", "keep")[other[0] % 3],))
    program, x0, y0, x1, y1, target = op.a
    step = 4 * (1 + other[0] % 3)
    width = WIDTH if target == 0 else SIDE[0]
    return Op(op.kind, (program, min(x0 + step, width - 4), y0, min(x1 + step, width), y1, target))


def _on_grid(op: Op) -> Op:
    """Places in the window lie on every fourth pixel, so that no edge runs through a sample where they are drawn
    into a small target.
    """
    if op.kind != "place" or op.a[5] != 0:
        return op
    program, x0, y0, x1, y1, target = op.a
    x0, y0 = x0 // 4 * 4, y0 // 4 * 4
    return Op("place", (program, x0, y0, max(x1 // 4 * 4, x0 + 4), max(y1 // 4 * 4, y0 + 4), target))


# ---- the model -------------------------------------------------------------------------------------------


@dataclass
class _Uniforms:
    place: tuple[int, int, int, int, int] = (0, 0, 1, 1, 0)
    colour: Colour = (0, 0, 0, 0)
    depth: float = 0.0


@dataclass
class Model:
    """State and contents; `run` goes on from where it is."""

    colours: list[np.ndarray] = field(default_factory=list)
    depths: list[np.ndarray | None] = field(default_factory=list)
    got: list[bytes] = field(default_factory=list)
    """What the program was handed in the frame: pixels, counts, vertices."""
    drawn: list[tuple] = field(default_factory=list)
    """Of each draw of the frame, all that it depended on besides its target."""

    def __post_init__(self) -> None:
        for t in range(TEXTURES):
            width, height = (WIDTH, HEIGHT) if t == 0 else SIDE
            self.colours.append(initial(t) if t else np.zeros((height, width, 4), np.int64))
            self.depths.append(np.zeros((height, width)) if t in WITH_DEPTH else None)
        self.program, self.draw_target, self.read_target, self.texture = 0, 0, 0, 0
        self.viewport = 0
        self.caps = {"depth": False, "blend": False, "scissor": False}
        self.depth_func, self.depth_mask, self.blend = "less", True, "copy"
        self.mask: tuple[int, ...] = (1, 1, 1, 1)
        self.box = (0, 0, WIDTH, HEIGHT)
        self.clear_colour: Colour = (0, 0, 0, 0)
        self.uniforms = [_Uniforms() for _ in range(4)]
        self.subroutine = 0
        self.counted, self.counting = 0, False
        self.captured: list[bytes] = []
        self.capturing = False

    def run(
        self, ops: Iterable[Op], left_out: frozenset[int] = frozenset(), painted: frozenset[int] = frozenset()
    ) -> np.ndarray:
        """One frame, without the operations of some numbers, and with those of others drawing other colours.
        Returns the window; `got` and `drawn` tell the rest.
        """
        self.got, self.drawn = [], []
        for number, op in enumerate(ops):
            if number not in left_out:
                self._one(op, number in painted)
        return self.colours[0].copy()

    def _one(self, op: Op, painted: bool) -> None:
        a = op.a
        match op.kind:
            case "target":
                self.draw_target = self.read_target = a[0]
            case "read target":
                self.read_target = a[0]
            case "draw target":
                self.draw_target = a[0]
            case "viewport":
                self.viewport = a[0]
            case "program":
                self.program = a[0]
            case "subroutine":
                self.subroutine = a[0]
            case "begin count":
                self.counted, self.counting = 0, True
            case "end count":
                self.counting = False
            case "get count":
                self.got.append(self.counted.to_bytes(8, "little"))
            case "begin capture":
                self.captured, self.capturing = [], True
            case "end capture":
                self.capturing = False
            case "get captured":
                self.got.append(b"".join(self.captured))
            case "read":
                self.got.append(self.colours[self.read_target][: SIDE[1], : SIDE[0]].tobytes())
            case "texture":
                self.texture = a[0]
            case "enable" | "disable":
                self.caps[a[0]] = op.kind == "enable"
            case "depth func":
                self.depth_func = a[0]
            case "depth mask":
                self.depth_mask = a[0]
            case "blend func":
                self.blend = a[0]
            case "colour mask":
                self.mask = a
            case "scissor":
                self.box = (a[0], a[1], a[0] + a[2], a[1] + a[3])
            case "clear colour":
                self.clear_colour = a
            case "colour":
                self.uniforms[a[0]].colour = a[1:]
            case "depth":
                self.uniforms[a[0]].depth = a[1]
            case "place":
                self.uniforms[a[0]].place = a[1:]
            case "upload":
                self.colours[a[0]] = uploaded(a[1])
            case "clear":
                self._clear(a[0], painted)
            case "draw":
                self._draw(painted)
            case "blit":
                self._copy(self.read_target, self.draw_target, scissored=True)
            case "named blit":
                self._copy(a[0], a[1], scissored=True)
            case "copy":
                self._copy(self.read_target, self.texture, scissored=False)
            case "image copy":
                self._copy(a[0], a[1], scissored=False)
            case _:
                raise AssertionError(op.kind)

    def _inside(self, target: int) -> np.ndarray:
        height, width = self.colours[target].shape[:2]
        inside = np.ones((height, width), bool)
        if self.caps["scissor"]:
            inside[:] = False
            inside[self.box[1] : self.box[3], self.box[0] : self.box[2]] = True
        return inside

    def _copy(self, source: int, drain: int, scissored: bool) -> None:
        """The lower left corner, as large as a texture."""
        inside = self._inside(drain) if scissored else np.ones(self.colours[drain].shape[:2], bool)
        corner = inside[: SIDE[1], : SIDE[0]]
        part = self.colours[source][: SIDE[1], : SIDE[0]].copy()
        self.colours[drain][: SIDE[1], : SIDE[0]][corner] = part[corner]

    def _clear(self, with_depth: bool, painted: bool) -> None:
        inside = self._inside(self.draw_target)
        colour = tuple(255 - c for c in self.clear_colour) if painted else self.clear_colour
        for channel in range(4):
            if self.mask[channel]:
                self.colours[self.draw_target][inside, channel] = colour[channel]
        depth = self.depths[self.draw_target]
        if with_depth and depth is not None and self.depth_mask:
            depth[inside] = 1.0

    def _place(self, uniforms: _Uniforms) -> tuple[float, ...]:
        """Where a draw goes, in parts of its target; the program that reads texels is told the pixels as well."""
        x0, y0, x1, y1, of = uniforms.place
        width, height = (WIDTH, HEIGHT) if of == 0 else SIDE
        size = (width, height) if self.program == 1 else ()
        return (x0 / width, y0 / height, x1 / width, y1 / height, *size)

    def _draw(self, painted: bool) -> None:
        target = self.draw_target
        uniforms = self.uniforms[self.program]
        if self.capturing:
            self.captured.append(repr((uniforms.place, uniforms.depth)).encode())
        self.drawn.append(
            (
                target, self.viewport, self.program, self.subroutine if self.program == CHOOSING else 0,
                self._place(uniforms), uniforms.colour if self.program != 1 else (), uniforms.depth,
                self.colours[self.texture].tobytes() if self.program == 1 else b"", dict(self.caps), self.depth_func,
                self.depth_mask, self.blend, self.mask, self.box if self.caps["scissor"] else (),
            )
        )  # fmt: skip
        height, width = self.colours[target].shape[:2]
        x0, y0, x1, y1, of = uniforms.place
        # places are relative to the target they were made for, and stretched to the viewport that is set
        have, want = ((WIDTH, HEIGHT) if t == 0 else SIDE for t in (of, self.viewport))
        xs, ys = (np.arange(n) + 0.5 for n in (width, height))
        columns = (xs > x0 * want[0] / have[0]) & (xs < min(x1 * want[0] / have[0], want[0]))
        rows = (ys > y0 * want[1] / have[1]) & (ys < min(y1 * want[1] / have[1], want[1]))
        if self.caps["scissor"]:
            columns &= (xs > self.box[0]) & (xs < self.box[2])
            rows &= (ys > self.box[1]) & (ys < self.box[3])
        if not columns.any() or not rows.any():
            return
        (x0, x1), (y0, y1) = ((int(held[0]), int(held[-1]) + 1) for held in map(np.flatnonzero, (columns, rows)))
        area = slice(y0, y1), slice(x0, x1)
        under = self.colours[target][area]
        inside = np.ones(under.shape[:2], bool)
        depth = self.depths[target]
        if self.caps["depth"] and depth is not None:
            value = (uniforms.depth + 1) / 2
            if self.depth_func == "less":
                inside &= value < depth[area]
            elif self.depth_func == "lequal":
                inside &= value <= depth[area]
            if self.depth_mask:
                depth[area][inside] = value
        if self.counting:
            self.counted += int(inside.sum())
        if self.program == 1:
            # by places as they were made, a quarter on, so that no sample falls between two texels
            x = np.floor(xs[columns] * have[0] / want[0] + 0.25).astype(int) % SIDE[0]
            y = np.floor(ys[rows] * have[1] / want[1] + 0.25).astype(int) % SIDE[1]
            colour = self.colours[self.texture][y[:, None], x[None, :]]
        else:
            straight = self.program == 0 or (self.program == CHOOSING and self.subroutine == 0)
            plain = np.array(uniforms.colour) if straight else 255 - np.array(uniforms.colour)
            colour = np.broadcast_to(plain, under.shape)
        if painted:
            made = 255 - under
        elif not self.caps["blend"] or self.blend == "copy":
            made = colour
        elif self.blend == "add":
            made = np.minimum(colour + under, 255)
        else:
            made = under
        taken = inside[..., None] & np.array(self.mask, bool)
        under[taken] = made[taken]


def initial(texture: int) -> np.ndarray:
    return np.random.default_rng(1000 + texture).integers(0, 256, (SIDE[1], SIDE[0], 4)).astype(np.int64)


def uploaded(number: int) -> np.ndarray:
    return np.random.default_rng(2000 + number).integers(0, 256, (SIDE[1], SIDE[0], 4)).astype(np.int64)


def settled(ops: Sequence[Op], frames: int = 30) -> Model:
    """The model after so many frames: what adds up is full by then."""
    model = Model()
    for _ in range(frames):
        model.run(ops)
    return model


# ---- the program -----------------------------------------------------------------------------------------


def program(seed: int, sequence: bool = False) -> Callable[[int], None]:
    """Draws the frame of a seed by OpenGL, one call for each operation. In a sequence a message tells the number of
    the frame.
    """
    from OpenGL import GL

    from ._draw import make_program, unit_square

    vertex = (
        "#version 400\nlayout(location=0) in vec2 corner;\nuniform vec4 rect[2];\nuniform float depth;\nout vec2 at;\n"
    )
    vertex += (
        "void main() { vec2 p = mix(rect[0].xy, rect[0].zw, corner); at = (p * 0.5 + 0.5) * rect[1].xy + 0.25;"
        " gl_Position = vec4(p, depth, 1.0); }\n"
    )
    fragments = (
        "uniform vec4 colour;\nvoid main() { result = colour; }\n",
        (
            "uniform sampler2D image;\nvoid main() { result = texelFetch(image, ivec2(floor(at)) % textureSize(image,"
            " 0), 0); }\n"
        ),
        "uniform vec4 colour;\nvoid main() { result = vec4(1.0) - colour; }\n",
        (
            "uniform vec4 colour;\nsubroutine vec4 Shade();\nsubroutine uniform Shade shade;\n"
            "subroutine(Shade) vec4 plain() { return colour; }\n"
            "subroutine(Shade) vec4 inverse() { return vec4(1.0) - colour; }\nvoid main() { result = shade(); }\n"
        ),
    )
    programs = [make_program(vertex, "#version 400\nin vec2 at;\nout vec4 result;\n" + text) for text in fragments]
    at = [{name: GL.glGetUniformLocation(p, name) for name in ("rect", "depth", "colour")} for p in programs]
    subroutines = [
        GL.glGetSubroutineIndex(programs[CHOOSING], GL.GL_FRAGMENT_SHADER, name) for name in (b"plain", b"inverse")
    ]
    varying = ctypes.cast(
        ctypes.pointer(ctypes.c_char_p(b"gl_Position")), ctypes.POINTER(ctypes.POINTER(ctypes.c_char))
    )
    GL.glTransformFeedbackVaryings(programs[CAPTURED], 1, varying, GL.GL_INTERLEAVED_ATTRIBS)
    GL.glLinkProgram(programs[CAPTURED])
    # each count has a query of its own: a driver may add to one that is begun again before its result was read
    queries = np.ravel(GL.glGenQueries(32)).astype(int).tolist()
    counts = [0]
    captured = int(GL.glGenBuffers(1))
    GL.glBindBuffer(GL.GL_TRANSFORM_FEEDBACK_BUFFER, captured)
    GL.glBufferData(GL.GL_TRANSFORM_FEEDBACK_BUFFER, 1 << 16, None, GL.GL_DYNAMIC_READ)
    GL.glBindBufferBase(GL.GL_TRANSFORM_FEEDBACK_BUFFER, 0, captured)
    pixels, vertices = np.zeros((*SIDE, 4), np.uint8), np.zeros(1 << 14, np.uint8)
    unit_square()
    textures, framebuffers = [0], [0]
    for t in range(1, TEXTURES):
        name, framebuffer = int(GL.glGenTextures(1)), int(GL.glGenFramebuffers(1))
        GL.glBindTexture(GL.GL_TEXTURE_2D, name)
        GL.glTexStorage2D(GL.GL_TEXTURE_2D, 1, GL.GL_RGBA8, *SIDE)
        GL.glTexSubImage2D(
            GL.GL_TEXTURE_2D, 0, 0, 0, *SIDE, GL.GL_RGBA, GL.GL_UNSIGNED_BYTE, initial(t).astype(np.uint8)
        )
        for parameter in (GL.GL_TEXTURE_MIN_FILTER, GL.GL_TEXTURE_MAG_FILTER):
            GL.glTexParameteri(GL.GL_TEXTURE_2D, parameter, GL.GL_NEAREST)
        GL.glBindFramebuffer(GL.GL_FRAMEBUFFER, framebuffer)
        GL.glFramebufferTexture2D(GL.GL_FRAMEBUFFER, GL.GL_COLOR_ATTACHMENT0, GL.GL_TEXTURE_2D, name, 0)
        if t in WITH_DEPTH:
            buffer = int(GL.glGenRenderbuffers(1))
            GL.glBindRenderbuffer(GL.GL_RENDERBUFFER, buffer)
            GL.glRenderbufferStorage(GL.GL_RENDERBUFFER, GL.GL_DEPTH_COMPONENT24, *SIDE)
            GL.glFramebufferRenderbuffer(GL.GL_FRAMEBUFFER, GL.GL_DEPTH_ATTACHMENT, GL.GL_RENDERBUFFER, buffer)
        textures.append(name)
        framebuffers.append(framebuffer)
    for framebuffer in (0, framebuffers[1]):  # as the model begins
        GL.glBindFramebuffer(GL.GL_FRAMEBUFFER, framebuffer)
        GL.glClearDepth(0.0)
        GL.glClearColor(0, 0, 0, 0)
        GL.glClear(GL.GL_DEPTH_BUFFER_BIT | (0 if framebuffer else GL.GL_COLOR_BUFFER_BIT))
    GL.glClearDepth(1.0)
    GL.glBindFramebuffer(GL.GL_FRAMEBUFFER, 0)
    for number in range(4):  # as the model's uniforms begin
        GL.glUseProgram(programs[number])
        GL.glUniform4fv(
            at[number]["rect"], 2, np.array([-1, -1, 2 / WIDTH - 1, 2 / HEIGHT - 1, WIDTH, HEIGHT, 0, 0], np.float32)
        )
    GL.glBlendFunc(GL.GL_ONE, GL.GL_ZERO)
    GL.glScissor(0, 0, WIDTH, HEIGHT)
    caps = {"depth": GL.GL_DEPTH_TEST, "blend": GL.GL_BLEND, "scissor": GL.GL_SCISSOR_TEST}
    functions = {"less": GL.GL_LESS, "lequal": GL.GL_LEQUAL, "always": GL.GL_ALWAYS}
    blends = {"add": (GL.GL_ONE, GL.GL_ONE), "copy": (GL.GL_ONE, GL.GL_ZERO), "keep": (GL.GL_ZERO, GL.GL_ONE)}
    whole = (0, 0, *SIDE)

    def one(op: Op) -> None:
        a = op.a
        match op.kind:
            case "target":
                GL.glBindFramebuffer(GL.GL_FRAMEBUFFER, framebuffers[a[0]])
            case "read target":
                GL.glBindFramebuffer(GL.GL_READ_FRAMEBUFFER, framebuffers[a[0]])
            case "draw target":
                GL.glBindFramebuffer(GL.GL_DRAW_FRAMEBUFFER, framebuffers[a[0]])
            case "viewport":
                size = (WIDTH, HEIGHT) if a[0] == 0 else SIDE
                if seed % 2:
                    GL.glViewport(0, 0, *size)
                else:
                    GL.glViewportArrayv(0, 1, np.array([0, 0, *size], np.float32))
            case "program":
                GL.glUseProgram(programs[a[0]])
            case "texture":
                # three ways to say the same
                match (seed + a[0]) % 3:
                    case 0:
                        GL.glBindTexture(GL.GL_TEXTURE_2D, textures[a[0]])
                    case 1:
                        GL.glBindTextureUnit(0, textures[a[0]])
                    case 2:
                        GL.glBindTextures(0, 1, np.array([textures[a[0]]], np.uint32))
            case "subroutine":
                GL.glUniformSubroutinesuiv(GL.GL_FRAGMENT_SHADER, 1, np.array([subroutines[a[0]]], np.uint32))
            case "begin count":
                counts[0] += 1
                GL.glBeginQuery(GL.GL_SAMPLES_PASSED, queries[counts[0] % len(queries)])
            case "end count":
                GL.glEndQuery(GL.GL_SAMPLES_PASSED)
            case "get count":
                GL.glGetQueryObjectuiv(queries[counts[0] % len(queries)], GL.GL_QUERY_RESULT)
            case "begin capture":
                GL.glBeginTransformFeedback(GL.GL_TRIANGLES)
            case "end capture":
                GL.glEndTransformFeedback()
            case "get captured":
                GL.glGetNamedBufferSubData(captured, 0, len(vertices), vertices)
            case "read":
                GL.glReadPixels(0, 0, *SIDE, GL.GL_RGBA, GL.GL_UNSIGNED_BYTE, pixels)
            case "enable":
                GL.glEnable(caps[a[0]])
            case "disable":
                GL.glDisable(caps[a[0]])
            case "depth func":
                GL.glDepthFunc(functions[a[0]])
            case "depth mask":
                GL.glDepthMask(a[0])
            case "blend func":
                GL.glBlendFunc(*blends[a[0]])
            case "colour mask":
                GL.glColorMask(*a)
            case "scissor":
                if seed % 3:
                    GL.glScissor(*a)
                else:
                    GL.glScissorIndexedv(0, np.array(a, np.int32))
            case "clear colour":
                GL.glClearColor(*(c / 255 for c in a))
            case "clear":
                GL.glClear(GL.GL_COLOR_BUFFER_BIT | (GL.GL_DEPTH_BUFFER_BIT if a[0] else 0))
            case "colour":
                GL.glProgramUniform4f(programs[a[0]], at[a[0]]["colour"], *(c / 255 for c in a[1:]))
            case "depth":
                GL.glProgramUniform1f(programs[a[0]], at[a[0]]["depth"], a[1])
            case "place":
                width, height = (WIDTH, HEIGHT) if a[5] == 0 else SIDE
                corners = (
                    2 * a[1] / width - 1,
                    2 * a[2] / height - 1,
                    2 * a[3] / width - 1,
                    2 * a[4] / height - 1,
                    width,
                    height,
                    0,
                    0,
                )
                GL.glProgramUniform4fv(programs[a[0]], at[a[0]]["rect"], 2, np.array(corners, np.float32))
            case "upload":
                GL.glTextureSubImage2D(
                    textures[a[0]], 0, 0, 0, *SIDE, GL.GL_RGBA, GL.GL_UNSIGNED_BYTE, uploaded(a[1]).astype(np.uint8)
                )
            case "draw":
                GL.glDrawArrays(GL.GL_TRIANGLE_STRIP, 0, 4)
            case "blit":
                GL.glBlitFramebuffer(*whole, *whole, GL.GL_COLOR_BUFFER_BIT, GL.GL_NEAREST)
            case "named blit":
                GL.glBlitNamedFramebuffer(
                    framebuffers[a[0]], framebuffers[a[1]], *whole, *whole, GL.GL_COLOR_BUFFER_BIT, GL.GL_NEAREST
                )
            case "copy":
                GL.glCopyTexSubImage2D(GL.GL_TEXTURE_2D, 0, 0, 0, *whole)
            case "image copy":
                where = (GL.GL_TEXTURE_2D, 0, 0, 0, 0)
                GL.glCopyImageSubData(textures[a[0]], *where, textures[a[1]], *where, *SIDE, 1)

    ops = make(seed)

    def draw(number: int) -> None:
        counts[0] = 0
        if sequence:
            text = f"frame {number}"
            kind = GL.GL_DEBUG_SOURCE_APPLICATION, GL.GL_DEBUG_TYPE_MARKER
            GL.glDebugMessageInsert(*kind, 0, GL.GL_DEBUG_SEVERITY_NOTIFICATION, len(text), text.encode())
        for op in vary(ops, number, seed) if sequence else ops:
            one(op)

    return draw
