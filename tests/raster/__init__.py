"""A frame that nothing was captured for, and a small software rasteriser in NumPy that draws it.

It stands behind the same seam as OpenGL (`frame.frame.Frame`, `frame.uses.StepUses`), so that analysis is tested
exactly, in milliseconds and without a driver: what it says may change places, be left out or be drawn together is
drawn so and compared.
"""

from __future__ import annotations

import functools
from collections.abc import Callable, Hashable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import numpy.typing as npt

from wendascope.analysis.draws.coverage import DepthTouches, coverage_of
from wendascope.analysis.draws.sharing import Sharing
from wendascope.analysis.geometry.drawn import Drawn, StepDrawn, clear_survivors, pass_drawn, step_boxes
from wendascope.frame.call_use import STEP, CallUse
from wendascope.frame.context import ContextInfo
from wendascope.frame.cpu import CpuLane
from wendascope.frame.frame import Frame, Metadata, Picture, Section
from wendascope.frame.layers import Kind, PassLayers, Touch, step_layers
from wendascope.frame.numbers import Ints, Mask, Numbers, combined
from wendascope.frame.parts import Parts
from wendascope.frame.passes import PassTable, Target
from wendascope.frame.resource_flow import ResourceFlow
from wendascope.frame.resources import VertexInput
from wendascope.frame.steps import KINDS, StepTable
from wendascope.frame.uses import STATE_ASPECTS, Compare, DepthState, Detail, Primitive, StepUses, TextureUse
from wendascope.glsl.stages import Stage

Floats = npt.NDArray[np.float64]
FLAT, TEXTURED = 1, 2
_VERTEX = "#version 330 core\nin vec3 place;\nvoid main() { gl_Position = vec4(place, 1.0); }\n"
_SOURCES = {
    FLAT: "#version 330 core\nuniform vec4 colour;\nout vec4 result;\nvoid main() { result = colour; }\n",
    TEXTURED: (
        "#version 330 core\nuniform vec4 colour;\nuniform sampler2D surface;\nout vec4 result;\n"
        "void main() { result = colour * texture(surface, gl_FragCoord.xy / 64.0); }\n"
    ),
}
_COMPARES: dict[Compare, Callable[[Any, Any], Any]] = {
    Compare.NEVER: lambda new, old: np.zeros(old.shape, bool),
    Compare.LESS: np.less,
    Compare.EQUAL: np.equal,
    Compare.LESS_OR_EQUAL: np.less_equal,
    Compare.GREATER: np.greater,
    Compare.NOT_EQUAL: np.not_equal,
    Compare.GREATER_OR_EQUAL: np.greater_equal,
    Compare.ALWAYS: lambda new, old: np.ones(old.shape, bool),
}


@dataclass(frozen=True)
class Draw:
    """Triangles with one state. Places are pixels, depth 0 near to 1 far."""

    triangles: tuple[tuple[tuple[float, float, float], ...], ...]
    colour: tuple[float, float, float, float] = (1.0, 1.0, 1.0, 1.0)
    texture: int = 0
    """A texture of the scene, or a target drawn before; 0 for the flat program."""
    tests: bool = True
    writes: bool = True
    compare: Compare = Compare.LESS
    blend: bool = False
    target: int = 0
    """0 is the window; others are textures of its size."""

    @property
    def program(self) -> int:
        return TEXTURED if self.texture else FLAT


@dataclass(frozen=True)
class Clear:
    """Fills colour and depth."""

    colour: tuple[float, float, float, float] = (0.0, 0.0, 0.0, 1.0)
    target: int = 0


Step = Draw | Clear


def quad(x0: float, y0: float, x1: float, y1: float, depth: float, **more: Any) -> Draw:
    """A rectangle of two triangles."""
    a, b, c, d = (x0, y0, depth), (x1, y0, depth), (x1, y1, depth), (x0, y1, depth)
    return Draw(((a, b, c), (a, c, d)), **more)


@dataclass(frozen=True)
class Program:
    name: int
    label: str
    fragment: str
    linked: bool = True
    runs: bool = True

    @property
    def shaders(self) -> list[ShaderSource]:
        return [ShaderSource(Stage.VERTEX, _VERTEX), ShaderSource(Stage.FRAGMENT, self.fragment)]

    @property
    def plain_uniforms(self) -> frozenset[str]:
        return frozenset({"colour"})

    @property
    def captures_vertices(self) -> bool:
        return False

    @property
    def output_numbers(self) -> dict[str, int]:
        return {"result": 0}


@dataclass(frozen=True)
class ShaderSource:
    stage: int
    source: str
    spirv: bytes = b""


@dataclass(frozen=True)
class Texture:
    name: int
    width: int
    height: int
    pixels: npt.NDArray[np.uint8] | None = None
    label: str = ""
    levels: int = 1
    plain: bool = True
    repeats: bool = False
    format: int = 1
    filter: str = "nearest"

    @property
    def texels(self) -> int:
        return self.width * self.height

    @property
    def stored_bytes(self) -> int:
        return 0 if self.pixels is None else self.pixels.nbytes

    @property
    def first_level_bytes(self) -> int:
        return self.stored_bytes

    @property
    def readable(self) -> bool:
        return self.pixels is not None

    @property
    def shape(self) -> Hashable:
        return self.width, self.height

    @property
    def look(self) -> Hashable:
        return self.format


@dataclass(frozen=True)
class Attachment:
    name: int
    kind: Any = "texture"
    point: int = 0
    level: int = 0
    face: int = 0
    layer: int = 0
    layered: bool = False
    is_colour: bool = True


def _groups(values: Iterable[Hashable]) -> Numbers:
    """Equal values as equal numbers, never 0."""
    known: dict[Hashable, int] = {}
    return np.array([known.setdefault(value, len(known) + 1) for value in values], np.uint64)


class RasterUses(StepUses):
    def __init__(self, frame: RasterFrame) -> None:
        self._frame = frame
        self._draws = [step if isinstance(step, Draw) else None for step in frame.scene]

    def _column(self, attribute: str, missing: Any) -> list[Any]:
        return [missing if draw is None else getattr(draw, attribute) for draw in self._draws]

    @property
    def pipeline(self) -> Numbers:
        return np.asarray(self._frame.steps.program, np.uint64)

    @functools.cached_property
    def state(self) -> dict[str, Numbers]:
        found = {name: np.zeros(len(self._draws), np.uint64) for name in STATE_ASPECTS}
        found["blend"] = _groups(self._column("blend", False))
        found["depth"] = combined(*(_groups(self._column(n, 0)) for n in ("tests", "writes", "compare")))
        return found

    @property
    def depth(self) -> DepthState:
        tests, writes = (np.array(self._column(name, False), bool) for name in ("tests", "writes"))
        return DepthState(tests, writes, np.array(self._column("compare", Compare.LESS), np.int64))

    @property
    def stencil(self) -> Mask:
        return np.zeros(len(self._draws), bool)

    @property
    def mixes_colours(self) -> Mask:
        return np.array(self._column("blend", False), bool)

    @functools.cached_property
    def textures(self) -> list[TextureUse]:
        rows = np.array([k for k, draw in enumerate(self._draws) if draw and draw.texture], np.int64)
        names = np.array([self._draws[k].texture for k in rows.tolist()], np.int64)
        return [TextureUse(TEXTURED, "surface", True, rows, names, names.astype(np.uint64))] if len(rows) else []

    @functools.cached_property
    def values(self) -> list[Detail]:
        found = []
        for program in (FLAT, TEXTURED):
            rows = np.flatnonzero(self._frame.steps.program == program)
            if len(rows):
                colours = _groups(self._draws[k].colour for k in rows.tolist())  # type: ignore[union-attr]
                found.append(Detail("uniform", "colour", program, rows, colours))
        return found

    @property
    def geometry(self) -> Numbers:
        return _groups(self._column("triangles", None))

    @property
    def layout(self) -> Numbers:
        return _groups(draw is None for draw in self._draws)

    @property
    def inputs(self) -> tuple[Ints, list[list[VertexInput]]]:
        place = VertexInput(0, "place", 3, 0, False, 12, 0, 1, 0, dtype=np.dtype(np.float32))
        return np.array([int(draw is None) for draw in self._draws], np.int64), [[place], []]

    @property
    def vertex_array(self) -> Ints:
        return np.ones(len(self._draws), np.int64)

    @property
    def primitive(self) -> Ints:
        kinds = [Primitive.OTHER if draw is None else Primitive.TRIANGLES for draw in self._draws]
        return np.array(kinds, np.int64)

    @property
    def range_draw(self) -> Ints:
        return np.zeros(len(self._draws), np.int64)

    @property
    def separated(self) -> Mask:
        return np.zeros(max(len(self._draws) - 1, 0), bool)

    @property
    def written_buffers(self) -> frozenset[int]:
        return frozenset()

    @property
    def buffer_sizes(self) -> dict[int, int]:
        return {1: 1 << 20}

    def unread_inputs(self, step: int) -> dict[int, int]:
        return {}

    def vertex_values(self, step: int, attribute: VertexInput) -> npt.NDArray[np.generic]:
        draw = self._draws[step]
        return np.array(draw.triangles if draw else [], np.float32).reshape(-1, 3)

    def colours_taken(self, step: int) -> set[int]:
        return {0}

    def block_bytes(self, program: int, block: str) -> int:
        return 0

    def uniform_bytes(self, program: int, uniforms: list[str], numbers: int, places: int) -> int:
        return 16 * (len(uniforms) + numbers + places)

    def buffer_texels(self, program: int) -> int:
        return 0

    def scalar_values(self, program: int, step: int, wanted: set[str]) -> dict[str, bool | int | float]:
        draw = self._draws[step]
        if draw is None or "colour" not in wanted:
            return {}
        return {f"colour.{letter}": value for letter, value in zip("xyzw", draw.colour, strict=True)}


@dataclass
class RasterFrame(Frame):
    """A scene as a frame: every step is one call."""

    scene: Sequence[Step]
    width: int = 64
    height: int = 64
    images: Mapping[int, npt.NDArray[np.uint8]] = field(default_factory=dict)
    """Texture -> RGBA, shape (h, w, 4)."""

    def __post_init__(self) -> None:
        self.metadata, self.context = Metadata("scene"), ContextInfo("raster")
        self.frame_statistics, self.caveats = [], []
        self.reference: Picture | None = None

    @property
    def polled_ms(self) -> float:
        return 0.0

    @property
    def size(self) -> tuple[int, int]:
        return self.width, self.height

    @property
    def has_alpha(self) -> bool:
        return True

    def stored_texture(self, name: int) -> int:
        return name

    @functools.cached_property
    def finished_target(self) -> Target:
        return self.passes.targets[-1]

    @property
    def alpha_matters(self) -> bool:
        return True

    @property
    def finished_depth(self) -> npt.NDArray[np.uint32] | None:
        return None

    @functools.cached_property
    def steps(self) -> StepTable:
        order = np.arange(len(self.scene), dtype=np.int64)
        draws = [step if isinstance(step, Draw) else None for step in self.scene]
        triangles = np.array([len(draw.triangles) if draw else 0 for draw in draws], np.int64)
        kinds = np.array([KINDS.index("draw" if draw else "clear") for draw in draws], np.uint8)
        program = np.array([draw.program if draw else 0 for draw in draws], np.int64)
        single = np.array([int(draw is not None) for draw in draws], np.int64)
        return StepTable(order, order, kinds, 3 * triangles, triangles, single, program, [()] * len(draws))

    @functools.cached_property
    def passes(self) -> PassTable:
        targets = np.array([step.target for step in self.scene], np.int64)
        fresh = np.ones(len(targets), bool)
        fresh[1:] = targets[1:] != targets[:-1]
        first = np.flatnonzero(fresh)
        end = np.append(first[1:], len(targets)) if len(first) else first
        chosen = [Target(t, (Attachment(t),) if t else (), self.width, self.height) for t in targets[first].tolist()]
        names = [f"{target.name} ({number})" for number, target in enumerate(chosen)]
        return PassTable(names, chosen, first, end, np.cumsum(fresh) - 1, 0)

    @property
    def cpu_lane(self) -> CpuLane:
        times = np.arange(len(self.scene), dtype=np.float64)
        return CpuLane(times, times + 0.5, np.zeros(len(times), bool), float(len(times)))

    @property
    def with_following(self) -> RasterFrame:
        return self

    @property
    def knows_following(self) -> bool:
        return False

    def parts(self) -> Parts:
        raise NotImplementedError("scenes are not kept in files")

    @functools.cached_property
    def uses(self) -> RasterUses:
        return RasterUses(self)

    @functools.cached_property
    def resource_flow(self) -> ResourceFlow:
        reads = [(k, step.texture) for k, step in enumerate(self.scene) if isinstance(step, Draw) and step.texture]
        writes = [(k, step.target) for k, step in enumerate(self.scene) if step.target]
        effects = np.array([step.target == 0 for step in self.scene], bool)
        nothing = np.zeros(0, np.int64)
        columns = [np.array(pairs, np.int64).reshape(-1, 2).T for pairs in (reads, writes)]
        targets = [[t.framebuffer] if t.framebuffer else [] for t in self.passes.targets]
        pairs = [(column[0], column[1]) for column in columns]
        never = np.full(len(writes), len(self.scene))
        return ResourceFlow(pairs[0], pairs[1], effects, (nothing, nothing), targets, never)

    @functools.cached_property
    def programs(self) -> dict[int, Program]:
        return {name: Program(name, "", source) for name, source in _SOURCES.items()}

    @functools.cached_property
    def textures(self) -> dict[int, Texture]:
        found = {n: Texture(n, pixels.shape[1], pixels.shape[0], pixels) for n, pixels in self.images.items()}
        drawn = {step.target for step in self.scene if step.target}
        return found | {name: Texture(name, self.width, self.height) for name in drawn}

    @property
    def object_counts(self) -> dict[str, int]:
        return {"programs": len(self.programs), "textures": len(self.textures), "buffers": len(self.uses.buffer_sizes)}

    def texture_pixels(self, name: int) -> npt.NDArray[np.uint8] | None:
        return self.images.get(name)

    def texture_channels(self, name: int) -> int:
        return 4 if name in self.images else 0

    @property
    def call_count(self) -> int:
        return len(self.scene)

    @property
    def unused_bytes(self) -> int:
        return 0

    def call_name(self, call: int) -> str:
        return type(self.scene[call]).__name__.lower()

    def call_text(self, call: int) -> str:
        return repr(self.scene[call])

    def call_use(self, alive: Mask | None = None, allowed: Mapping[int, Mask] | None = None) -> CallUse:
        found = CallUse.nothing(len(self.scene))
        found.use[:] = STEP
        return found

    def program_at(self, calls: Ints) -> Ints:
        return np.zeros(len(calls), np.int64)

    def waited_for(self, call: int) -> str:
        return "nothing"

    def step_name(self, step: int) -> str:
        return self.call_name(step)

    def step_facts(self, step: int) -> list[Section]:
        return [Section("Step", [("what", self.step_name(step))])]


class Rasteriser:
    """Draws the steps of a frame, in any order and with any left out, and counts their fragments."""

    def __init__(self, frame: RasterFrame) -> None:
        self._frame = frame

    def picture(self, order: Sequence[int] | None = None) -> npt.NDArray[np.uint8]:
        """The finished window, shape (h, w, 4), of the steps in some order; those not in it are left out."""
        return self._run(range(len(self._frame.scene)) if order is None else order)[0]

    def layers(self) -> list[PassLayers]:
        """Everything that every pass draws."""
        return self._run(range(len(self._frame.scene)))[1]

    def drawn(self) -> Drawn:
        """The record that findings read, from the layers."""
        frame = self._frame
        layers = self.layers()
        rows = [StepDrawn() for _ in frame.scene]
        for item in layers:
            for touch in item.touches:
                rows[touch.step].kind = touch.kind
                if touch.kind == "clear":
                    row = rows[touch.step]
                    row.fragments, row.survivors, row.idle = touch.counts.size, clear_survivors(item, touch), 0
            for step, counted in step_layers(item).items():
                row = rows[step]
                row.fragments, row.survivors, row.idle = counted.fragments, counted.survivors, counted.idle
                row.effect = counted.effect
        depth = frame.uses.depth
        for step, draw in enumerate(frame.scene):
            if not isinstance(draw, Draw):
                continue
            row, corners = rows[step], np.array(draw.triangles).reshape(-1, 3)
            if row.fragments < 0:
                row.fragments = row.survivors = row.idle = 0
            low, high = np.floor(corners.min(axis=0)), np.ceil(corners.max(axis=0))
            row.box = (int(low[0]), int(low[1]), int(high[0]), int(high[1]))
            row.triangles, row.outside, row.away, row.empty = len(draw.triangles), 0, 0, 0
            row.depth = float(corners[:, 2].mean())
            row.depth_test, row.depth_write = bool(depth.tests[step]), bool(depth.writes[step])
            row.depth_func = int(depth.compare[step])
        drawn = Drawn(rows, [pass_drawn(item) for item in layers], [])
        drawn.coverage = coverage_of(layers, step_boxes(drawn), np.zeros(len(rows), bool), self.depth_touches())
        return drawn

    def depth_touches(self) -> DepthTouches:
        """What depth tests decide, of the frame in its own order."""
        self._run(range(len(self._frame.scene)))
        sharing, of_step = Sharing(self._frame), self._frame.passes.of_step
        ties: dict[int, list[Touch]] = {}
        rejected: dict[int, list[Touch]] = {}
        for step, (tied, lost) in self._decided.items():
            if sharing.order_free[step]:
                ties.setdefault(int(of_step[step]), []).append(Touch(step, "opaque", 0, 0, tied))
            if sharing.hidden_by_depth[step]:
                rejected.setdefault(int(of_step[step]), []).append(Touch(step, "opaque", 0, 0, lost))
        return DepthTouches(ties, rejected, sharing.hiders)

    def _run(self, order: Iterable[int]) -> tuple[npt.NDArray[np.uint8], list[PassLayers]]:
        frame = self._frame
        self._decided: dict[int, tuple[npt.NDArray[np.uint8], npt.NDArray[np.uint8]]] = {}
        shape = (frame.height, frame.width)
        colours: dict[int, Floats] = {name: pixels / 255.0 for name, pixels in frame.images.items()}
        depths: dict[int, Floats] = {}
        layers = [PassLayers(k, frame.width, frame.height) for k in range(len(frame.passes))]
        for step in order:
            what = frame.scene[step]
            colour = colours.setdefault(what.target, np.zeros((*shape, 4)))
            depth = depths.setdefault(what.target, np.ones(shape))
            item = layers[int(frame.passes.of_step[step])]
            if isinstance(what, Clear):
                colour[:], depth[:] = what.colour, 1.0
                item.touches.append(Touch(step, "clear", 0, 0, np.ones(shape, np.uint8)))
                continue
            before = colour.copy()
            counts, at_first = np.zeros(shape, np.uint8), depth.copy()
            tied, lost = np.zeros(shape, bool), np.zeros(shape, bool)
            surface = colours.get(what.texture) if what.texture else None
            for triangle in what.triangles:
                passed, reached, z = _fill(what, np.array(triangle), colour, depth, surface)
                counts += passed
                tied |= reached & (z == at_first)
                lost |= reached & ~passed
            self._decided[step] = tied.astype(np.uint8), lost.astype(np.uint8)
            if counts.any():
                kind: Kind = "blended" if what.blend else "opaque"
                changed = (colour != before).any(axis=2) if what.blend else None
                item.touches.append(Touch(step, kind, 0, 0, counts, changed))
        window = colours.get(0, np.zeros((*shape, 4)))
        return np.round(np.clip(window, 0, 1) * 255).astype(np.uint8), layers


@functools.lru_cache(4096)
def _covered(corners_bytes: bytes, shape: tuple[int, int]) -> tuple[npt.NDArray[np.bool_], Floats]:
    """Where a triangle has pixels, and their depths."""
    corners = np.frombuffer(corners_bytes).reshape(3, 3)
    (ax, ay, _), (bx, by, _), (cx, cy, _) = corners
    area = (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)
    if area == 0:
        return np.zeros(shape, bool), np.zeros(shape)
    if area < 0:
        corners = corners[[0, 2, 1]]
    y, x = np.mgrid[0 : shape[0], 0 : shape[1]] + 0.5
    inside = np.ones(shape, bool)
    weights = []
    for k in range(3):
        (px, py, _), (qx, qy, _) = corners[(k + 1) % 3], corners[(k + 2) % 3]
        edge = (qx - px) * (y - py) - (qy - py) * (x - px)
        belongs = qy < py or (qy == py and qx > px)
        inside &= (edge > 0) | ((edge == 0) & belongs)
        weights.append(edge / abs(area))
    z = sum(weight * corner[2] for weight, corner in zip(weights, corners, strict=True))
    return inside, np.asarray(z)


def drawn_triangle(
    draw: Draw, corners: Floats, colour: Floats, depth: Floats, surface: Floats | None
) -> npt.NDArray[np.bool_]:
    """Draw one triangle; returns where its fragments passed, shape (h, w)."""
    return _fill(draw, corners, colour, depth, surface)[0]


def _fill(
    draw: Draw, corners: Floats, colour: Floats, depth: Floats, surface: Floats | None
) -> tuple[npt.NDArray[np.bool_], npt.NDArray[np.bool_], Floats]:
    """Draw one triangle; returns (where its fragments passed, where it has any, their depths). A pixel is covered where
    its centre lies inside; edges belong to one side only, so that neighbours neither overlap nor leave gaps.
    """
    inside, z = _covered(corners.astype(np.float64).tobytes(), depth.shape)
    passed = inside & (_COMPARES[draw.compare](z, depth) if draw.tests else True)
    source = np.broadcast_to(np.array(draw.colour), colour.shape)
    if surface is not None:
        rows, columns = np.mgrid[0 : depth.shape[0], 0 : depth.shape[1]]
        source = source * surface[rows % surface.shape[0], columns % surface.shape[1]]
    if draw.blend:
        alpha = source[..., 3:]
        source = source * alpha + colour * (1 - alpha)
    colour[passed] = source[passed]
    if draw.tests and draw.writes:
        depth[passed] = z[passed]
    return passed, inside, z
