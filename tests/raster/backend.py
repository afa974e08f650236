"""A second backend: scenes of `tests.raster` behind the doors that OpenGL frames stand behind, with a scripted clock.

What is measured, refuted, proved and planned is tested on it without a driver: what a step costs is what the test says.
"""

from __future__ import annotations

import contextlib
import hashlib
import random
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, field, replace
from typing import Any, Self

import numpy as np
import numpy.typing as npt

from tests.raster import Clear, Draw, RasterFrame, Step, drawn_triangle
from wendascope.backends.busy import BusyLoops
from wendascope.backends.contents import WINDOW, Contents, KeptImage, Store, StoredImages
from wendascope.backends.doors import (
    Code,
    Counter,
    Counting,
    DrawState,
    Floats,
    KnownWork,
    Mark,
    Mask,
    Positions,
    Prepared,
    Probed,
    Probing,
    SpanStart,
    StepMesh,
    Studio,
    Writes,
)
from wendascope.backends.edit import Calls, Edit, Insertion
from wendascope.backends.slots import Slots
from wendascope.errors import ReplayError, TrialError
from wendascope.frame.apis import PACKAGES
from wendascope.frame.contents import ImageValues
from wendascope.frame.frame import Frame, Picture
from wendascope.frame.layers import PassLayers, Touch
from wendascope.frame.passes import Target
from wendascope.frame.remedy import Part, Remedy
from wendascope.frame.uses import Compare
from wendascope.replay.jobs import Asked
from wendascope.task import Task

PACKAGES["raster"] = "tests.raster"
_PATTERN = {1: (0.29, 0.83, 0.11, 0.62), 2: (0.91, 0.07, 0.57, 0.23)}
_DEPTH = {1: 0.13, 2: 0.87}

Cost = Callable[[Step, int], float]
"""(step, fragments that passed) -> ms of work."""


@dataclass
class Script:
    """What the clock shows."""

    cost: Cost = lambda step, fragments: 0.2 + fragments / 1000
    submit: Callable[[Step], float] = lambda step: 0.01
    """ms of the submitting thread."""
    noise: float = 0.0
    """Standard deviation of each cost, as a part of it."""
    seed: int = 1

    def __post_init__(self) -> None:
        self._random = random.Random(self.seed)

    def shaken(self, ms: float) -> float:
        return ms * max(0.1, 1 + self.noise * self._random.gauss(0, 1)) if self.noise else ms


@dataclass(frozen=True)
class Filled:
    """A store filled with a pattern."""

    store: Store
    pattern: int


@dataclass(frozen=True)
class Put:
    """A target that holds given contents."""

    target: int
    colour: bytes


@dataclass(frozen=True)
class Counted:
    """Begin or end of a set of counters."""

    span: int
    begins: bool


Item = Draw | Clear | Mark | Filled | Put | Counted


class SceneCalls(Calls):
    """Steps and what else can be put into a scene."""

    def __init__(self, items: Iterable[Item] = ()) -> None:
        self.items: list[Item] = list(items)

    def append(self, other: Calls) -> None:
        assert isinstance(other, SceneCalls)
        self.items += other.items


class PreparedScene(Prepared):
    def __init__(self, scene: Sequence[Step], edit: Edit) -> None:
        count = len(scene) if edit.keep_until is None else min(edit.keep_until, len(scene))
        drop = np.zeros(len(scene), bool) if edit.drop is None else edit.drop
        self.items: list[tuple[int, Item]] = []
        """(insertion it is from, or -1, item)."""
        self.owners: list[int] = []
        position = 0

        def take(end: int) -> None:
            nonlocal position
            for call in range(position, end):
                if not drop[call]:
                    self.items.append((-1, scene[call]))
                    self.owners.append(call)
            position = max(position, end)

        for number, row in sorted(enumerate(edit.insertions), key=lambda r: (r[1].before, not r[1].closes)):
            if row.before > count and not row.undoes:
                continue
            take(min(row.before, count))
            assert isinstance(row.calls, SceneCalls)
            self.items += [(number, item) for item in row.calls.items]
            self.owners += [row.before - row.closes] * len(row.calls.items)
        take(count)
        self.taken: dict[int, list[tuple[float, float, float]]] = {}

    def readings(self, insertion: int, count: int = 1) -> Floats:
        return np.array(self.taken[insertion][:count])

    def first_readings(self, insertions: int, clock: int) -> Floats:
        return np.array([self.taken[number][0][clock] for number in range(insertions)])

    def place(self, call: int) -> int:
        return int(np.searchsorted(self.owners, call))

    def clocks(self) -> tuple[int, int]:
        at = [k for k, (_, item) in enumerate(self.items) if item in (Mark.CLOCK, Mark.DRAINED_CLOCK)]
        return at[0], at[-1] + 1

    def __len__(self) -> int:
        return len(self.items)


class SceneCounters:
    def __init__(self, session: RasterSession, counters: Iterable[Counter], spans: int) -> None:
        self._session, self._counters, self._spans = session, list(counters), spans
        self.around: list[tuple[Calls, Calls]] = [
            (SceneCalls([Counted(k, True)]), SceneCalls([Counted(k, False)])) for k in range(spans)
        ]

    def read(self) -> dict[Counter, list[int]]:
        counted = self._session.counted
        each = [counted.get(k, (0, 0.0)) for k in range(self._spans)]
        return {c: [round(1e6 * ms) if c is Counter.TIME else n for n, ms in each] for c in self._counters}


@dataclass(frozen=True)
class SceneState:
    """The state that a draw of a scene finds."""

    draw: Draw
    size: tuple[int, int]

    depth_range = (0.0, 1.0)
    stencil_test = late_tests = front_clockwise = upper_left = zero_to_one = depth_clamp = False
    rasterises = filled = True
    scissor = None
    culls = (False, False)

    @property
    def depth_test(self) -> bool:
        return self.draw.tests

    @property
    def depth_write(self) -> bool:
        return self.draw.writes

    @property
    def depth_func(self) -> int:
        return int(self.draw.compare)

    @property
    def viewport(self) -> tuple[int, int, int, int]:
        return (0, 0, *self.size)


@dataclass(frozen=True)
class SceneWrites:
    targets: frozenset[int]

    def joined(self, other: Self) -> Self:
        return type(self)(self.targets | other.targets)


class SceneStart:
    kept, bytes = False, 0

    def __init__(self, session: RasterSession, call: int) -> None:
        self._session, self.call = session, call

    def approach(self, edit: Edit) -> Prepared:
        ahead = [i for i in edit.insertions if i.before < self.call or (i.before == self.call and i.closes)]
        return self._session.prepare(Edit(ahead, edit.drop, self.call))

    def enter(self, approach: Prepared, only: Writes | None = None) -> None:
        self._session.run(approach)

    def close(self) -> None:
        pass


class SceneWalk:
    def __init__(self, session: RasterSession) -> None:
        self._session, self._prepared, self._at = session, session.prepare(), 0
        session.restore()

    def run_to(self, call: int) -> None:
        end = self._prepared.place(call)
        self._session.run_part(self._prepared, self._at, end)
        self._at = max(self._at, end)

    def run_step(self, step: int) -> None:
        self.run_to(step + 1)

    def finish(self) -> None:
        self.run_to(len(self._session.frame.scene) + 1)


class SceneWork:
    """Known work: a square costs a millisecond for every 100,000 pixels."""

    def drained(self, size: int) -> Floats:
        ms = size * size / 1e5 + 0.001
        return np.array([ms, ms, 0.001])

    def counted(self, sizes: Sequence[int]) -> Floats | None:
        return None

    def close(self) -> None:
        pass


@dataclass
class RasterSession:
    """One scene, run by the rasteriser."""

    frame: RasterFrame
    script: Script = field(default_factory=Script)

    renderer = "a rasteriser in NumPy"
    elsewhere_captured = False

    def __post_init__(self) -> None:
        self.slots, self.caveats = Slots(), list[str]()
        self.busy: BusyLoops | None = None
        self.watch: npt.NDArray[np.int64] | None = None
        self.counted: dict[int, tuple[int, float]] = {}
        self.runs = 0
        self._submitted = self._worked = self._drained = 0.0
        self._colours: dict[int, Floats] = {}
        self._depths: dict[int, Floats] = {}
        self._open: dict[int, tuple[int, float]] = {}

    # ---- runs ----------------------------------------------------------------------------------------

    def close(self) -> None:
        pass

    def prepare(self, edit: Edit | None = None) -> PreparedScene:
        return PreparedScene(self.frame.scene, edit or Edit())

    def restore(self, between: Calls | None = None) -> None:
        shape = (self.frame.height, self.frame.width)
        targets = {step.target for step in self.frame.scene} | {0}
        self._colours = {name: pixels / 255.0 for name, pixels in self.frame.images.items()}
        self._colours |= {target: np.zeros((*shape, 4)) for target in targets}
        self._depths = {target: np.ones(shape) for target in targets}
        if between is not None:
            assert isinstance(between, SceneCalls)
            for item in between.items:
                self._do(item, {}, -1)

    def run(self, prepared: Prepared, between: Calls | None = None) -> None:
        self.restore(between)
        self.drain()
        self.run_part(prepared, 0, len(prepared))

    def run_part(self, prepared: Prepared, first: int, end: int) -> None:
        assert isinstance(prepared, PreparedScene)
        self.runs += 1
        self._rasterises = True
        if first == 0:
            prepared.taken = {}
        for number, item in prepared.items[first:end]:
            self._do(item, prepared.taken, number)

    def _do(self, item: Item, taken: dict[int, list[tuple[float, float, float]]], number: int) -> None:
        match item:
            case Draw() | Clear():
                fragments = self._draw(item)
                self._submitted += self.script.shaken(self.script.submit(item))
                ms = self.script.shaken(self.script.cost(item, fragments)) if self._rasterises else 0.0
                self._worked += ms
                self._open = {k: (n + fragments, t + ms) for k, (n, t) in self._open.items()}
            case Mark.FRAGMENTS_OFF | Mark.FRAGMENTS_ON:
                self._rasterises = item is Mark.FRAGMENTS_ON
            case Mark.CLOCK | Mark.DRAINED_CLOCK:
                if item is Mark.DRAINED_CLOCK:
                    self.drain()
                wall = self._submitted + self._drained
                taken.setdefault(number, []).append((wall, wall, self._submitted))
            case Filled():
                self._fill(item)
            case Put():
                shape = self._colours[item.target].shape
                self._colours[item.target] = np.frombuffer(item.colour, np.float64).reshape(shape).copy()
            case Counted():
                if item.begins:
                    self._open[item.span] = (0, 0.0)
                else:
                    self.counted[item.span] = self._open.pop(item.span)

    def _draw(self, step: Step) -> int:
        colour, depth = self._colours[step.target], self._depths[step.target]
        if isinstance(step, Clear):
            if self._rasterises:
                colour[:], depth[:] = step.colour, 1.0
            return 0
        surface = self._colours.get(step.texture) if step.texture else None
        if not self._rasterises:
            return 0
        return sum(int(drawn_triangle(step, np.array(t), colour, depth, surface).sum()) for t in step.triangles)

    def _fill(self, item: Filled) -> None:
        target = item.store.name
        if item.store.kind in ("texture", WINDOW[0]):
            self._colours[target][:] = _PATTERN[item.pattern]
        if item.store.kind in ("texture", WINDOW[1]):
            self._depths[target][:] = _DEPTH[item.pattern]

    def drain(self) -> None:
        self._drained = self._worked

    def walk(self) -> SceneWalk:
        return SceneWalk(self)

    def add(self, *brought_in: object) -> None:
        pass

    def span_start(self, call: int) -> SpanStart:
        return SceneStart(self, call)

    def writes(self, first: int = 0, end: int | None = None) -> Writes:
        return SceneWrites(frozenset(step.target for step in self.frame.scene[first:end]))

    def written_texels(self) -> int:
        return self.frame.width * self.frame.height * len({step.target for step in self.frame.scene})

    @contextlib.contextmanager
    def following(self) -> Iterator[RasterSession]:
        raise ReplayError("nothing follows a scene")
        yield self

    def edited(self, edit: Edit) -> Frame:
        items = [item for _, item in self.prepare(edit).items]
        return replace(self.frame, scene=[item for item in items if isinstance(item, Draw | Clear)])

    def step_calls(self, step: int) -> tuple[int, int]:
        return step, step + 1

    def draws(self, calls: Calls) -> bool:
        assert isinstance(calls, SceneCalls)
        return any(isinstance(item, Draw | Clear) for item in calls.items)

    def marks(self, *marks: Mark) -> Calls:
        return SceneCalls(marks)

    def can_mark(self, mark: Mark) -> bool:
        return True

    def can_count(self, counter: Counter) -> bool:
        return counter in (Counter.TIME, Counter.SAMPLES)

    def counters(self, counters: Iterable[Counter], spans: int) -> SceneCounters:
        return SceneCounters(self, counters, spans)

    def known_work(self) -> KnownWork:
        return SceneWork()

    # ---- pictures and contents -----------------------------------------------------------------------

    def _eight_bits(self, target: int) -> npt.NDArray[np.uint8]:
        return np.asarray(np.round(np.clip(self._colours[target], 0, 1) * 255), np.uint8)

    def final_picture(self) -> Picture:
        return Picture(self._eight_bits(0))

    def picture_in_between(self) -> npt.NDArray[np.uint8]:
        return self._eight_bits(0)

    def read_target(self, target: Target) -> Picture:
        return Picture(self._eight_bits(target.framebuffer))

    def read_target_depth(self, target: Target) -> npt.NDArray[np.float32]:
        return self._depths[target.framebuffer].astype(np.float32)

    def read_window_depth(self) -> npt.NDArray[np.uint32]:
        return np.asarray(self._depths[0].reshape(-1) * 0xFFFFFFFF, np.uint32)

    def contents(self, of: Writes | None = None) -> Contents:
        assert of is None or isinstance(of, SceneWrites)
        targets = self._depths if of is None else of.targets
        found = {}
        for target in targets:
            store = Store("texture", target) if target else Store(WINDOW[0])
            found[store, ""] = hashlib.sha256(self._colours[target].tobytes()).digest()
        return found

    def read_back(self, prepared: Prepared) -> Contents:
        return {}

    def written_stores(self) -> list[Store]:
        targets = sorted({step.target for step in self.frame.scene})
        window = [Store(WINDOW[0]), Store(WINDOW[1])] if 0 in targets else []
        return [*(Store("texture", target) for target in targets if target), *window]

    def undefined_stores(self) -> list[Store]:
        return []

    def meaningless_stores(self) -> set[Store]:
        return set()

    def returned_stores(self) -> set[Store]:
        return set()

    def fill(self, stores: Iterable[Store], pattern: int) -> Calls:
        return SceneCalls(Filled(store, pattern) for store in stores)

    def images_now(self, targets: Iterable[Target]) -> StoredImages:
        stored = StoredImages()
        for target in targets:
            data = self._colours[target.framebuffer].tobytes()
            digest = hashlib.sha256(data).hexdigest()
            image = KeptImage("texture", target.framebuffer, b"", [digest], True, self.frame.size)
            stored = stored.joined(StoredImages([image], {digest: data}))
        return stored

    def put_images(self, stored: StoredImages) -> Calls:
        return SceneCalls(Put(image.name, stored.data[image.contents[0]]) for image in stored.images)

    def image_values(self, kind: str, name: int, level: int, layer: int) -> ImageValues:
        return ImageValues(list("rgba"), self._colours[name].astype(np.float32))

    def has_wide_targets(self) -> bool:
        return False

    def wide_targets(self) -> list[tuple[str, int, ImageValues]]:
        return []

    def stays(self, index: int) -> bool:
        targets = [target.framebuffer for target in self.frame.passes.targets]
        return targets[index] not in targets[index + 1 :]

    def digests(self, targets: Sequence[Target]) -> list[str]:
        return [hashlib.sha256(self._colours[t.framebuffer].tobytes()).hexdigest() for t in targets]

    # ---- shaders that note ---------------------------------------------------------------------------

    def cannot_note(self) -> str:
        return "scenes have no shaders"

    def notable(self) -> dict[int, str]:
        return {}

    def run_noting(
        self, sources: dict[int, str], notes: bytes, places: Sequence[tuple[int, int]], part: int
    ) -> bytes | None:
        return None

    # ---- looking inside ------------------------------------------------------------------------------

    @contextlib.contextmanager
    def counting(self, discards: bool = True) -> Iterator[RasterSession]:
        yield self

    def runs_once(self) -> Mask:
        return np.zeros(len(self.frame.scene), bool)

    def has_effects(self) -> Mask:
        return self.runs_once()

    def positions(self, task: Task) -> Positions[DrawState]:
        found = Positions[DrawState]()
        size = np.array([self.frame.width, self.frame.height])
        for step, draw in enumerate(self.frame.scene):
            found.states[step] = SceneState(draw if isinstance(draw, Draw) else Draw(()), self.frame.size)
            if isinstance(draw, Draw):
                corners = np.array(draw.triangles, np.float64).reshape(-1, 3, 3)
                clip = np.ones((len(corners), 3, 4), np.float32)
                clip[..., :2] = 2 * corners[..., :2] / size - 1
                clip[..., 2] = 2 * corners[..., 2] - 1
                found.clip[step], found.transformed[step] = clip, 3 * len(corners)
        return found

    def count_layers(self, task: Task, counting: Counting[DrawState]) -> list[PassLayers]:
        """By walking through the scene, as a driver would."""
        frame, passes = self.frame, self.frame.passes
        layers = [PassLayers(k, frame.width, frame.height) for k in range(len(passes))]
        self.restore()
        for step, what in enumerate(frame.scene):
            colour, depth = self._colours[what.target], self._depths[what.target]
            before, at_first = colour.copy(), depth.copy()
            counts = np.zeros(depth.shape, np.uint8)
            self._rasterises = True
            if isinstance(what, Clear):
                self._draw(what)
                if counting.what != "tied":
                    layers[int(passes.of_step[step])].touches.append(
                        Touch(step, "clear", 0, 0, np.ones(depth.shape, np.uint8))
                    )
                continue
            surface = self._colours.get(what.texture) if what.texture else None
            for triangle in what.triangles:
                passed = drawn_triangle(what, np.array(triangle), colour, depth, surface)
                if counting.what == "passed":
                    counts += passed
                    continue
                anywhere = replace(what, tests=False, blend=False)
                reached = drawn_triangle(anywhere, np.array(triangle), colour.copy(), depth.copy(), surface)
                if counting.what == "tied":
                    same = replace(what, compare=Compare.EQUAL, writes=False, tests=True)
                    counts += drawn_triangle(same, np.array(triangle), colour.copy(), at_first.copy(), surface)
                else:
                    counts += reached & ~passed if counting.what == "failed depth" else reached
            wanted = counting.steps is None or step in counting.steps
            if counts.any() and wanted:
                changed = (colour != before).any(axis=2) if what.blend else None
                kind: Any = "blended" if what.blend else "opaque"
                layers[int(passes.of_step[step])].touches.append(Touch(step, kind, 0, 0, counts, changed))
        return [item for item in layers if counting.passes is None or item.index in counting.passes]

    def probe(self, task: Task, asked: Probing[DrawState]) -> list[Probed]:
        raise ReplayError("scenes are not probed")

    def mesh(self, step: int) -> StepMesh:
        return StepMesh([], None)

    def studio(self) -> Studio:
        raise ReplayError("scenes have no studio")


class SceneChanges:
    """Changes of a scene: steps left out, moved, or joined where they share everything but their triangles."""

    def __init__(self, frame: RasterFrame, painted: bool) -> None:
        self.frame, self.painted = frame, painted
        self.dropped: set[int] = set()
        self.orders: list[list[int]] = []
        self.sequences: list[list[int]] = []
        self.batches: list[Part] = []
        self.redundant: set[int] = set()
        self.kept: set[tuple[str, int]] = set()
        self.earlier: dict[tuple[str, int], int] = {}
        self.left_out: list[str] = []
        self.leaves_out = False
        self._painted: set[int] = set()
        self._joined = 0

    def leave_out(self, step: int, painted: bool = False) -> None:
        if self.painted and painted and isinstance(self.frame.scene[step], Draw):
            self._painted.add(step)
        else:
            self.dropped.add(step)

    def apply(self, item: Remedy) -> None:
        raise TrialError(f"{item.kind} is not known of scenes")

    def edit(self) -> Edit:
        scene, drop = self.frame.scene, np.zeros(len(self.frame.scene), bool)
        self.leaves_out = bool(self.dropped or self._painted)
        drop[list(self.dropped)] = True
        insertions = []
        for step in self._painted - self.dropped:
            draw = scene[step]
            assert isinstance(draw, Draw)
            drop[step] = True
            red, green, blue, _ = draw.colour
            painted = replace(draw, colour=(1 - red, 1 - green, 1 - blue, 1.0), texture=0, blend=False)
            insertions.append(Insertion(step, SceneCalls([painted])))
        for order in self.orders:
            drop[order] = True
            kept = [scene[step] for step in order if step not in self.dropped]
            insertions.append(Insertion(min(order), SceneCalls(kept)))
        for part in self.batches:
            draws = [draw for step in part.steps if isinstance(draw := scene[step], Draw)]
            if len(draws) < len(part.steps) or len({replace(draw, triangles=()) for draw in draws}) > 1:
                raise TrialError("the steps differ in more than their triangles")
            joined = replace(draws[0], triangles=tuple(t for draw in draws for t in draw.triangles))
            drop[part.steps] = True
            insertions.append(Insertion(part.steps[-1], SceneCalls([joined])))
            self._joined += len(part.steps) - 1
        return Edit(insertions, drop)

    prime = None
    brought_in = None
    brings_in = False
    new_bytes = 0

    @property
    def steps_after(self) -> int:
        return len(self.frame.scene) - len(self.dropped) - self._joined

    def changed_sources(self) -> dict[int, list[tuple[int, str]]]:
        return {}

    def codes(self) -> list[list[Code]]:
        return []


# ---- the doors of a backend, found by the API of the frame -----------------------------------------------


def session(frame: Frame, progress: int | None = None) -> RasterSession:
    assert isinstance(frame, RasterFrame)
    return RasterSession(frame)


def changes(frame: Frame, space: int, painted: bool) -> SceneChanges:
    assert isinstance(frame, RasterFrame)
    return SceneChanges(frame, painted)


def batch_code(frame: Frame, part: Part) -> list[Code]:
    raise TrialError("scenes are not written by hand")


def fixed_lights(frame: Frame) -> dict[int, list[int]]:
    return {}


class LocalReplay:
    """The replay process in this one: jobs go over the wire, and run on a session."""

    def __init__(self, session: RasterSession) -> None:
        self.session = session

    def run(self, asked: Asked[Any], *_: Any) -> Any:
        given = asked.job.run(self.session, Task(), asked.arguments)
        return asked.job.result(given)

    def without_drawing(self) -> None:
        """There is no driver beside it that draws nothing."""


def replay_of(frame: RasterFrame, script: Script | None = None) -> Any:
    """A replay of a scene whose own picture is what it was captured with."""
    made = RasterSession(frame, script or Script())
    made.run(made.prepare())
    frame.reference = made.final_picture()
    return LocalReplay(made)
