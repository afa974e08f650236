"""What measuring and trying ask of a frame that is rebuilt, whatever API it was made with."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Iterable, Sequence
from contextlib import AbstractContextManager
from dataclasses import dataclass, field
from enum import Enum, auto
from typing import Generic, Literal, Protocol, Self, TypeVar

import msgspec
import numpy as np
import numpy.typing as npt

from wendascope.backends.busy import BusyLoops
from wendascope.backends.contents import Contents, Store, StoredImages
from wendascope.backends.edit import Calls, Edit
from wendascope.backends.slots import Slots
from wendascope.frame.contents import ImageValues
from wendascope.frame.frame import Frame, Picture
from wendascope.frame.layers import PassLayers
from wendascope.frame.passes import Target
from wendascope.frame.remedy import Part, Remedy
from wendascope.frame.resources import VertexInput
from wendascope.task import Task

Floats = npt.NDArray[np.float64]
Mask = npt.NDArray[np.bool_]
Clip = npt.NDArray[np.float32]
Box = tuple[int, int, int, int]
"""(x0, y0, x1, y1) in pixels, y from the bottom, end exclusive."""

WALL, CPU, THREAD = range(3)
"""Columns of a reading of the clocks: the time of the wall, the CPU time of all threads of the replay process, that of
the one thread.
"""


NOTES = 7
"""Binding of the storage buffer in which shaders note something."""


class Counter(Enum):
    """What a driver may count over a span of calls."""

    TIME = auto()
    """ns that the device worked."""
    SAMPLES = auto()
    """Samples that passed all tests."""
    VERTEX_RUNS = auto()
    FRAGMENT_RUNS = auto()


class Mark(Enum):
    """What can be put between calls."""

    CLOCK = auto()
    """A reading of the clocks."""
    DRAINED_CLOCK = auto()
    """The same, once all work before it is done."""
    FRAGMENTS_OFF = auto()
    FRAGMENTS_ON = auto()


What = Literal["passed", "failed depth", "reached", "tied"]
"""Fragments that passed all tests; that the depth test rejected; that were rasterised and not discarded; whose depth is
the one that was there before.
"""


class DrawState(Protocol):
    """The state that decides what becomes of a step's fragments."""

    @property
    def depth_test(self) -> bool: ...
    @property
    def depth_write(self) -> bool: ...
    @property
    def depth_func(self) -> int:
        """Of `frame.uses.Compare`."""

    @property
    def stencil_test(self) -> bool: ...
    @property
    def late_tests(self) -> bool:
        """Whether alpha decides about fragments, so that no test can come before the shader."""

    @property
    def rasterises(self) -> bool: ...
    @property
    def filled(self) -> bool:
        """Whether triangles are filled, and not drawn as lines or points."""

    @property
    def viewport(self) -> tuple[int, int, int, int]:
        """(x, y, width, height)."""

    @property
    def scissor(self) -> tuple[int, int, int, int] | None:
        """(x, y, width, height); None where there is none."""

    @property
    def culls(self) -> tuple[bool, bool]:
        """(front faces, back faces)."""

    @property
    def front_clockwise(self) -> bool: ...
    @property
    def upper_left(self) -> bool:
        """Whether y of the clip space points downwards."""

    @property
    def zero_to_one(self) -> bool:
        """Whether clip depth begins at 0, and not at -1."""

    @property
    def depth_clamp(self) -> bool: ...
    @property
    def depth_range(self) -> tuple[float, ...]:
        """(near, far)."""


S = TypeVar("S", bound=DrawState)


@dataclass
class Positions(Generic[S]):
    """What one run of the frame gave; draw states as the backend has them."""

    clip: dict[int, Clip] = field(default_factory=dict)
    """Step -> clip positions of its primitives, shape (primitives, corners, 4), corners 1 to 3."""
    states: dict[int, S] = field(default_factory=dict)
    """Step -> the state it found."""
    transformed: dict[int, int] = field(default_factory=dict)
    """Step -> vertices run through the vertex stages, by a model of the vertex cache."""
    caveats: list[str] = field(default_factory=list)


@dataclass
class Counting(Generic[S]):
    """Which fragments to count, and where."""

    states: dict[int, S]
    boxes: dict[int, Box | None]
    """Step -> where its fragments can be; None where there can be none; missing: anywhere."""
    what: What = "passed"
    passes: frozenset[int] | None = None
    """Only these passes; None for all."""
    steps: frozenset[int] | None = None
    """Only these steps; None for all."""


class Prepared(ABC):
    """An edited frame, ready to run any number of times."""

    @abstractmethod
    def readings(self, insertion: int, count: int = 1) -> Floats:
        """The clocks that one insertion of the edit read in the last run so many times, in ms, shape (count, 3)."""

    @abstractmethod
    def place(self, call: int) -> int:
        """How many of its calls come before a captured one."""

    @abstractmethod
    def clocks(self) -> tuple[int, int]:
        """Its calls [first, end) from the first reading of the clocks to the last."""

    @abstractmethod
    def __len__(self) -> int:
        """How many calls it has."""

    @abstractmethod
    def first_readings(self, insertions: int, clock: int) -> Floats:
        """One clock of the first reading of each of the first insertions, in ms, shape (insertions,)."""


class Writes(Protocol):
    """What some calls write."""

    def joined(self, other: Self) -> Self:
        """With what others write."""


class SpanStart(Protocol):
    """One call of a frame at which runs can begin."""

    call: int
    kept: bool
    """Whether what the steps before have drawn is kept; else they run each time."""
    bytes: int

    def approach(self, edit: Edit) -> Prepared:
        """The calls before, as an edit has them, that have to run ahead of each run of the span."""

    def enter(self, approach: Prepared, only: Writes | None = None) -> None:
        """Be where the frame is before the call; `only` names what else was written since the last time, where that
        is known.
        """

    def close(self) -> None:
        """Give back what was kept."""


class Walk(Protocol):
    """One run of a frame from its start, in pieces. Whoever does something between must leave all as it was."""

    def run_to(self, call: int) -> None:
        """Run everything before a captured call."""

    def run_step(self, step: int) -> None:
        """Run the calls of a step, which must be next."""

    def finish(self) -> None: ...


@dataclass
class Probing(Generic[S]):
    """Which pixel is asked about."""

    x: int
    y: int
    """From the bottom."""
    passes: list[int]
    states: dict[int, S]
    boxes: dict[int, Box | None]
    """As in `Counting`."""
    covered: Callable[[int], int | None]
    """Step -> its triangles that cover the pixel's centre; None where that is not known."""


@dataclass
class Probed:
    """What one step did at one pixel. Counts are fragments (samples on a multisampled target)."""

    step: int
    cut_off: bool = False
    """By the scissor: nothing else is known then."""
    passed: int = 0
    reached: int = 0
    """Those that came as far as the depth test."""
    stencilled: int = 0
    """Those that the stencil test rejected."""
    discarded: int = 0
    colour: tuple[int, int, int, int] | None = None
    """Of the pixel after the step, eight bits a channel."""
    depth: float | None = None


@dataclass
class StepMesh:
    """What one draw fetches."""

    inputs: list[tuple[VertexInput, Floats | None]]
    """Attributes with the values of vertices in the order of the buffer, shape (vertices, size); None where they cannot
    be had.
    """
    corners: npt.NDArray[np.int64] | None
    """Rows of the values that each triangle joins, shape (triangles, 3); None where the draw's ranges are not known."""


class Studio(Protocol):
    """A place beside the frame in which meshes are drawn."""

    largest: int
    """Pixels of a side."""

    def picture(
        self,
        key: tuple[int, str],
        corners: npt.NDArray[np.float32],
        view: npt.NDArray[np.float32],
        size: tuple[int, int],
        colours: dict[str, str],
        shaded: bool,
        wire: bool,
    ) -> npt.NDArray[np.uint8]:
        """Triangles (shape (n, 3, 3), known by a key) under a row-major projection, shape (h, w, 4), bottom row first.
        `colours` are those of `ground`, `mesh` and `wire` as #RRGGBB.
        """


class Code(msgspec.Struct):
    """A piece of what the programmer would write."""

    title: str
    text: str
    language: str = ""
    """`glsl`, `c` or plain text."""


class Changes(Protocol):
    """Everything that is to be different in a frame. Recipes write into it, then one edited frame is made of it."""

    painted: bool
    """Whether steps that are said to be unseen are drawn in other colours, in place of being left out."""
    dropped: set[int]
    """Steps left out."""
    orders: list[list[int]]
    """Runs of steps in the order in which they are to come."""
    sequences: list[list[int]]
    """Runs of steps in an order that batches are a part of."""
    batches: list[Part]
    """Steps to be drawn together."""
    redundant: set[int]
    """Uses (`frame.call_use`) of which every call is left out."""
    kept: set[tuple[str, int]]
    """(kind, name) of images that have to hold their result from the beginning: that of the frame before."""
    earlier: dict[tuple[str, int], int]
    """The same of images that hold what they held so many frames before: (kind, name) -> how many."""
    left_out: list[str]
    """Batches among others that cannot be drawn here, each with the reason."""
    leaves_out: bool
    """Whether anything is not drawn, cleared or set any more: then what the frame left before may come through."""

    @property
    def frame(self) -> Frame: ...

    def leave_out(self, step: int, painted: bool = False) -> None:
        """Drop a step; where steps are painted, one that can be is painted instead."""

    def apply(self, item: Remedy) -> None:
        """Make a change that only the backend knows how to make. Raises TrialError, also where it does not know it."""

    def edit(self) -> Edit:
        """Raises TrialError, saying what stands in the way."""

    @property
    def prime(self) -> Edit | None:
        """What has to be run once, ahead of the edited frame; None where nothing stays from it."""

    @property
    def brought_in(self) -> object:
        """The objects that the edited frame needs (see `Session.add`)."""

    @property
    def brings_in(self) -> bool:
        """Whether there are any."""

    @property
    def steps_after(self) -> int:
        """How many steps the edited frame has."""

    @property
    def new_bytes(self) -> int:
        """Graphics memory of what is brought in."""

    def changed_sources(self) -> dict[int, list[tuple[int, str]]]:
        """Program -> (stage, source) of its shaders as they are to be, of those that are changed."""

    def codes(self) -> list[list[Code]]:
        """What the programmer would write for each batch, once `edit` was called."""


class Counters(Protocol):
    """Counters of the driver, one set for each span."""

    around: list[tuple[Calls, Calls]]
    """What begins and what ends each set."""

    def read(self) -> dict[Counter, list[int]]:
        """What they counted in the last run; waits for it."""


class KnownWork(Protocol):
    """Work of a known size, drawn beside the frame; for calibrating clocks."""

    def drained(self, size: int) -> Floats:
        """Draw a square of so many pixels a side, drained on both sides: ms by the three clocks, shape (3,)."""

    def counted(self, sizes: Sequence[int]) -> Floats | None:
        """Squares one after the other with no drain between, ms of each by `Counter.TIME`; None without one."""

    def close(self) -> None: ...


class Session(Protocol):
    """One frame rebuilt in this process, and everything that can be run on it. Methods raise ReplayError."""

    slots: Slots
    """What measuring found and later jobs ask about."""
    busy: BusyLoops | None
    """Load for calibrating clocks; None where nobody made any."""
    watch: npt.NDArray[np.int64] | None
    """Memory that outlives this process, to tell which captured call a crash happened in."""
    caveats: list[str]

    @property
    def frame(self) -> Frame: ...
    @property
    def renderer(self) -> str:
        """What the driver here calls itself: numbers belong to it."""

    @property
    def elsewhere_captured(self) -> bool:
        """Whether the frame was captured with another driver than that of this machine."""

    def close(self) -> None:
        """Give back all that it holds; it is asked nothing more."""

    # ---- runs ----------------------------------------------------------------------------------------

    def prepare(self, edit: Edit | None = None) -> Prepared:
        """Build, translate and hold an edited frame."""

    def run(self, prepared: Prepared, between: Calls | None = None) -> None:
        """Run an edited frame from the frame's own start, once all work before it is done. `between` runs after
        contents were put back and before state is.
        """

    def run_part(self, prepared: Prepared, first: int, end: int) -> None:
        """Run calls [first, end) of a prepared frame, from whatever state there is."""

    def restore(self, between: Calls | None = None) -> None:
        """Back to the state before the frame."""

    def span_start(self, call: int) -> SpanStart:
        """Runs the frame up to a call."""

    def writes(self, first: int = 0, end: int | None = None) -> Writes:
        """What calls [first, end) of the frame write."""

    def written_texels(self) -> int:
        """Of all images that the frame writes."""

    def following(self) -> AbstractContextManager[Session]:
        """The frame with the calls of the one after it, kept from one time to the next."""

    def edited(self, edit: Edit) -> Frame:
        """The frame with an edit made: for counting what it consists of."""

    def step_calls(self, step: int) -> tuple[int, int]:
        """The calls [first, end) that are left out when a step is: it and what comes with it."""

    def draws(self, calls: Calls) -> bool:
        """Whether any of some calls are steps."""

    def drain(self) -> None:
        """Wait for all work."""

    def walk(self) -> Walk:
        """Begin a run that is gone through in pieces."""

    def add(self, *brought_in: object) -> None:
        """Make objects that edits bring in (`Changes.brought_in`)."""

    def marks(self, *marks: Mark) -> Calls:
        """What to put between calls of the frame."""

    def can_mark(self, mark: Mark) -> bool: ...

    def can_count(self, counter: Counter) -> bool:
        """Whether the driver counts it, and the frame has no counters of its own in the way."""

    def counters(self, counters: Iterable[Counter], spans: int) -> Counters:
        """A set of counters for each of some spans; all must be there."""

    def known_work(self) -> KnownWork:
        """Work that has nothing to do with the frame. Leaves the session to be restored by the next run."""

    # ---- pictures and contents -----------------------------------------------------------------------

    def final_picture(self) -> Picture:
        """What the reference picture shows, after a run of the whole frame."""

    def read_target(self, target: Target) -> Picture | npt.NDArray[np.float32]:
        """The colour of a pass target as it is now, or its depth when it has no colour."""

    def read_target_depth(self, target: Target) -> npt.NDArray[np.float32]:
        """Depth of a pass target as it is now, shape (h, w), 0 to 1, where it has some."""

    def read_window_depth(self) -> npt.NDArray[np.uint32]:
        """Depth of the window as the capture keeps it."""

    def picture_in_between(self) -> npt.NDArray[np.uint8]:
        """The finished picture while more calls are to follow, shape (h, w, 4)."""

    def contents(self, of: Writes | None = None) -> Contents:
        """Of everything that the frame writes (or of this), as it is now."""

    def read_back(self, prepared: Prepared) -> Contents:
        """What the last run of a frame read into the program's memory."""

    def written_stores(self) -> list[Store]:
        """Everything that the frame writes and that was there before it."""

    def undefined_stores(self) -> list[Store]:
        """What the frame writes and of which no contents were kept, so that nothing defines it."""

    def meaningless_stores(self) -> set[Store]:
        """What holds anything after the frame, by the API's own rules, where who draws with it shows in the picture;
        and what nothing reads or clears.
        """

    def returned_stores(self) -> set[Store]:
        """What the program gets to read: whether it is written anew afterwards does not matter."""

    def fill(self, stores: Iterable[Store], pattern: int) -> Calls:
        """Calls that fill some stores with a pattern (of `contents.PATTERNS`)."""

    def images_now(self, targets: Iterable[Target]) -> StoredImages:
        """What the images of some targets hold. Raises TrialError where one of them cannot be read."""

    def put_images(self, stored: StoredImages) -> Calls:
        """Calls that make images hold what others held: for between two runs. Raises TrialError where there is none
        like them here.
        """

    def image_values(self, kind: str, name: int, level: int, layer: int) -> ImageValues:
        """One layer of one level of a `texture` or `renderbuffer` as it is now."""

    def has_wide_targets(self) -> bool:
        """Whether there are any of these."""

    def wide_targets(self) -> list[tuple[str, int, ImageValues]]:
        """(kind, name, values of every layer together) of each render target with one sample whose texels are larger
        than four channels of eight bits, as they are now.
        """

    def stays(self, index: int) -> bool:
        """Whether nothing after a pass writes what it draws into."""

    def digests(self, targets: Sequence[Target]) -> list[str]:
        """Of each target one digest of all that it holds now; empty where not all can be read."""

    # ---- shaders that note ---------------------------------------------------------------------------

    def cannot_note(self) -> str:
        """Why shaders here cannot note anything; empty where they can."""

    def notable(self) -> dict[int, str]:
        """Program -> its only fragment shader as it is compiled, of those that could be made to note."""

    def run_noting(
        self, sources: dict[int, str], notes: bytes, places: Sequence[tuple[int, int]], part: int
    ) -> bytes | None:
        """Run the frame once with other fragment shaders, that note in the storage buffer `NOTES`, and return what they
        noted, as many bytes as `notes` holds, from which they start; None where the picture is another one than
        without. `places` are (step, first byte): from each of these steps on, notes go to `part` bytes from there.
        Raises TrialError.
        """

    # ---- looking inside ------------------------------------------------------------------------------

    def counting(self, discards: bool = True) -> AbstractContextManager[Session]:
        """The same frame made ready for counting fragments, kept from one time to the next; without `discards`,
        fragments that shaders throw away stay.
        """

    def runs_once(self) -> Mask:
        """Steps that must not run twice, shape (steps,): their shaders write beyond their colours."""

    def has_effects(self) -> Mask:
        """The same, and steps whose fragments the program counts."""

    def positions(self, task: Task) -> Positions[DrawState]:
        """Clip positions and draw states of all draws. Of a session for counting."""

    def count_layers(self, task: Task, counting: Counting[DrawState]) -> list[PassLayers]:
        """Go through the frame and count. Of a session for counting."""

    def probe(self, task: Task, asked: Probing[DrawState]) -> list[Probed]:
        """Go through the frame once, drawing one pixel only in the passes asked for. Of a session for counting."""

    def mesh(self, step: int) -> StepMesh:
        """What a draw fetches."""

    def studio(self) -> Studio:
        """Made when first asked for."""
