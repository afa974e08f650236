"""Random scenes, and an independent rasteriser that says what becomes of every fragment of them.

A scene is a list of passes into targets of many kinds; each pass has a few steps of a few triangles, with random
state. Corners lie on the sub-pixel grid and no edge runs through a sample, so that coverage is the same for every
rasteriser; each triangle has one depth, a multiple of 1/64, so that every depth format orders them alike.
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

SIZE = 64
LAYERS = 3
CENTRE = ((0.5, 0.5),)
FOUR = ((0.375, 0.125), (0.875, 0.375), (0.125, 0.625), (0.625, 0.875))
"""The standard pattern of four samples."""

TARGETS = (
    "colour+depth",
    "colour+depth-stencil",
    "colour",
    "depth",
    "colour+float-depth",
    "four samples",
    "layers",
    "colour+small-depth",
    "depth layers",
)
COMPARE = ("NEVER", "LESS", "EQUAL", "LEQUAL", "GREATER", "NOTEQUAL", "GEQUAL", "ALWAYS")
OPERATIONS = ("KEEP", "ZERO", "REPLACE", "INCR", "DECR", "INVERT", "INCR_WRAP", "DECR_WRAP")


@dataclass
class Step:
    triangles: np.ndarray
    """Corners in pixels, shape (n, 3, 2)."""
    depths: np.ndarray
    """Multiples of 1/64, shape (n,)."""
    colour: tuple[int, int, int, int]
    """Eight bits a channel."""
    depth_test: bool
    depth_func: str
    depth_mask: bool
    blend: str
    """`off`, `alpha` or `add`."""
    cull: str
    """`` or FRONT or BACK."""
    clockwise: bool
    scissor: tuple[int, int, int, int] | None
    discard: int
    """Pixels whose x + y is this modulo 3 are discarded; -1 for none."""
    stencil: tuple[str, int, int, str, str, str, int] | None
    """func, ref, value mask, operations on fail, depth fail and pass, write mask."""
    colour_mask: bool = True


@dataclass
class Pass:
    target: str
    steps: list[Step] = field(default_factory=list)

    @property
    def samples(self) -> tuple[tuple[float, float], ...]:
        return FOUR if self.target == "four samples" else CENTRE

    @property
    def layers(self) -> int:
        return LAYERS if "layers" in self.target else 1

    @property
    def has_colour(self) -> bool:
        return not self.target.startswith("depth")

    @property
    def has_depth(self) -> bool:
        return self.target not in ("colour", "layers")

    @property
    def has_stencil(self) -> bool:
        return self.target in ("colour+depth-stencil", "four samples")


def make_scene(seed: int, passes: int = 18) -> list[Pass]:
    random = np.random.default_rng(seed)
    scene = []
    for number in range(passes):
        item = Pass(TARGETS[number % len(TARGETS)])
        for _ in range(int(random.integers(3, 9))):
            item.steps.append(_step(random, item))
        if len(item.samples) > 1:  # at samples off the centre equal depths come out a little apart
            depths = iter(random.permutation(np.arange(1, 64)) / 64)
            for step in item.steps:
                step.depths = np.array([next(depths) for _ in step.depths])
        scene.append(item)
    return scene


def _step(random: np.random.Generator, item: Pass) -> Step:
    count = int(random.integers(1, 6))
    triangles = np.stack([_triangle(random) for _ in range(count)])
    flag = lambda part: bool(random.random() < part)  # noqa: E731
    stencil = None
    if item.has_stencil and flag(0.6):
        pick = lambda names: str(random.choice(names))  # noqa: E731
        stencil = (
            pick(COMPARE),
            int(random.choice([0, 1, 2, 255])),
            int(random.choice([0xFF, 0x3])),
            pick(OPERATIONS),
            pick(OPERATIONS),
            pick(OPERATIONS),
            int(random.choice([0xFF, 0xFE])),
        )
        if stencil[0] not in ("ALWAYS", "NEVER") and flag(0.7):
            stencil = (*stencil[:3], "KEEP", "KEEP", "KEEP", stencil[6])
    alpha = int(random.choice([0, 255]))
    red, green, blue = (int(v) for v in random.integers(0, 255, 3)) if flag(0.8) else (0, 0, 0)
    return Step(
        triangles,
        random.integers(1, 64, count) / 64,
        (red, green, blue, alpha),
        flag(0.8),
        str(random.choice(["LESS", "LEQUAL", "LESS", "GREATER", "ALWAYS", "EQUAL"])),
        flag(0.85),
        str(random.choice(["off", "off", "off", "alpha", "add"])),
        str(random.choice(["", "", "BACK", "FRONT"])),
        flag(0.3),
        (
            int(random.integers(0, 30)),
            int(random.integers(0, 30)),
            int(random.integers(5, 50)),
            int(random.integers(5, 50)),
        )
        if flag(0.25)
        else None,
        # with several samples llvmpipe lets some of a discarded pixel's samples through
        int(random.integers(0, 3)) if flag(0.3) and item.target != "four samples" else -1,
        stencil,
        flag(0.9),
    )


def _triangle(random: np.random.Generator) -> np.ndarray:
    while True:
        size = random.choice([4, 20, 64, 64])
        middle = random.integers(0, SIZE * 256, 2)
        corners = middle + random.integers(-size * 256, size * 256, (3, 2))
        corners = np.clip(corners, 0, SIZE * 256)
        if (
            all((edge_functions(corners / 256, sample) != 0).all() for sample in (*CENTRE, *FOUR))
            and _area(corners) != 0
        ):
            return np.asarray(corners / 256)


def _area(corners: np.ndarray) -> float:
    (ax, ay), (bx, by), (cx, cy) = corners
    return float((bx - ax) * (cy - ay) - (by - ay) * (cx - ax))


def edge_functions(corners: np.ndarray, sample: tuple[float, float]) -> np.ndarray:
    """Edge functions at one sample of every pixel, shape (3, SIZE, SIZE); all numbers here are exact in binary."""
    y, x = np.mgrid[0:SIZE, 0:SIZE]
    x, y = x + sample[0], y + sample[1]
    values = []
    for k in range(3):
        (ax, ay), (bx, by) = corners[k], corners[(k + 1) % 3]
        values.append((bx - ax) * (y - ay) - (by - ay) * (x - ax))
    return np.array(values)


def coverage(corners: np.ndarray, sample: tuple[float, float] = (0.5, 0.5)) -> np.ndarray:
    """Pixels whose sample a triangle of either winding covers, shape (SIZE, SIZE)."""
    edges = edge_functions(corners, sample)
    return np.asarray((edges > 0).all(axis=0) | (edges < 0).all(axis=0))


@dataclass
class Fragment:
    step: int
    """Number in the pass."""
    fate: str
    """`passed`, `discarded`, `stencil`, `depth` or `scissor`."""


class Outcome:
    """Every fragment of a pass, at every sample of every pixel of every layer, in order."""

    def __init__(self, item: Pass) -> None:
        shape = (item.layers, SIZE, SIZE, len(item.samples))
        self.passed = np.zeros((len(item.steps), *shape), np.int64)
        self.changed = np.zeros((len(item.steps), *shape), bool)
        self.stacks: dict[tuple[int, int, int, int], list[Fragment]] = {}
        self._item = item
        self._depth = np.ones(shape)
        self._stencil = np.zeros(shape, np.int64)
        self._colour = np.zeros((*shape, 4), np.int64)
        self._rasterise()

    def _rasterise(self) -> None:
        for number, step in enumerate(self._item.steps):
            before = self._colour.copy()
            for k, (corners, depth) in enumerate(zip(step.triangles, step.depths, strict=True)):
                front = (_area(corners) > 0) != step.clockwise
                if step.cull == ("FRONT" if front else "BACK"):
                    continue
                layer = k % self._item.layers
                for s, sample in enumerate(self._item.samples):
                    for y, x in np.argwhere(coverage(corners, sample)).tolist():
                        fate = self._fragment(step, (layer, y, x, s), float(depth))
                        self.stacks.setdefault((layer, y, x, s), []).append(Fragment(number, fate))
                        self.passed[number, layer, y, x, s] += fate == "passed"
            self.changed[number] = (before != self._colour).any(axis=-1)

    def _fragment(self, step: Step, at: tuple[int, int, int, int], depth: float) -> str:
        _, y, x, _ = at
        if step.scissor is not None:
            x0, y0, width, height = step.scissor
            if not (x0 <= x < x0 + width and y0 <= y < y0 + height):
                return "scissor"
        if step.discard >= 0 and (x + y) % 3 == step.discard:
            return "discarded"
        if step.stencil is not None:
            func, ref, mask, fail, depth_fail, passes, write = step.stencil
            kept = int(self._stencil[at])
            if not _compare(func, ref & mask, kept & mask):
                self._stencil[at] = _operate(fail, kept, ref, write)
                return "stencil"
        tested = step.depth_test and self._item.has_depth
        if tested and not _compare(step.depth_func, depth, float(self._depth[at])):
            if step.stencil is not None:
                self._stencil[at] = _operate(depth_fail, kept, ref, write)
            return "depth"
        if step.stencil is not None:
            self._stencil[at] = _operate(passes, kept, ref, write)
        if tested and step.depth_mask:
            self._depth[at] = depth
        if self._item.has_colour and step.colour_mask:
            self._colour[at] = _blended(step, self._colour[at])
        return "passed"

    # ---- what follows -------------------------------------------------------------------------------

    def kind(self, number: int) -> str:
        step = self._item.steps[number]
        if not (self._item.has_colour and step.colour_mask):
            return "depth"
        return "opaque" if step.blend == "off" else "blended"

    def survivors(self, number: int) -> int:
        """Fragments that no later opaque one of the pass covers, counted at each place by itself."""
        colour = any(self.kind(n) != "depth" for n in range(len(self._item.steps)))
        hides = ("opaque",) if colour else ("opaque", "depth")
        total = 0
        for fragments in self.stacks.values():
            passed = [f for f in fragments if f.fate == "passed"]
            covering = [i for i, f in enumerate(passed) if self.kind(f.step) in hides]
            total += sum(f.step == number for f in passed[covering[-1] if covering else 0 :])
        return total


def _compare(func: str, value: float, kept: float) -> bool:
    return {
        "NEVER": False, "LESS": value < kept, "EQUAL": value == kept, "LEQUAL": value <= kept, "GREATER": value > kept,
        "NOTEQUAL": value != kept, "GEQUAL": value >= kept, "ALWAYS": True,
    }[func]  # fmt: skip


def _operate(operation: str, kept: int, ref: int, write: int) -> int:
    made = {
        "KEEP": kept,
        "ZERO": 0,
        "REPLACE": ref,
        "INCR": min(kept + 1, 255),
        "DECR": max(kept - 1, 0),
        "INVERT": kept ^ 0xFF,
        "INCR_WRAP": (kept + 1) & 0xFF,
        "DECR_WRAP": (kept - 1) & 0xFF,
    }[operation]
    return (kept & ~write) | (made & write)


def _blended(step: Step, under: np.ndarray) -> np.ndarray:
    over = np.array(step.colour)
    match step.blend:
        case "alpha":
            return over if step.colour[3] == 255 else under
        case "add":
            return np.asarray(np.minimum(under + over, 255))
    return over


def changes_itself(step: Step) -> bool:
    """Whether the step's stencil test can depend on what the step itself writes."""
    if step.stencil is None or step.stencil[0] in ("ALWAYS", "NEVER"):
        return False
    _, _, mask, *operations, write = step.stencil
    return any(operation != "KEEP" for operation in operations) and bool(mask & write)
