"""A captured frame as everything but its API sees it: a timeline of calls, steps and passes, and what they use."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import Self

import msgspec
import numpy as np
import numpy.typing as npt

from wendascope.frame.blobs import Number
from wendascope.frame.call_use import CallUse
from wendascope.frame.contents import BufferLayout, ImageValues
from wendascope.frame.context import ContextInfo
from wendascope.frame.cpu import CpuLane, Floats
from wendascope.frame.formats import NO_TEXELS, Format
from wendascope.frame.grouping import Grouping
from wendascope.frame.memory import Fetched, MemoryItem
from wendascope.frame.mesh import StepMesh
from wendascope.frame.numbers import Ints, Mask, Numbers
from wendascope.frame.parts import Parts
from wendascope.frame.passes import PassTable, Target
from wendascope.frame.resource_flow import ResourceFlow
from wendascope.frame.resources import Program, Texture
from wendascope.frame.roles import PassRole, roles_of
from wendascope.frame.side_work import SideWork
from wendascope.frame.steps import StepTable
from wendascope.frame.stored_image import StoredImage
from wendascope.frame.uses import StepUses
from wendascope.frame.waits import SHORTEST_MS, Wait


class FrameStatistics(msgspec.Struct, array_like=True):
    """One ordinary frame of the target, as the tap reported it. Times in nanoseconds."""

    frame: Number
    cpu_ns: Number
    swap_ns: Number
    calls: Number
    draws: Number
    vertices: Number
    thread_ns: Number = 0
    """CPU time of the thread that ends the frames; 0 where it was not recorded."""
    voluntary: Number = 0
    """How often that thread gave the processor away: it waited, or slept."""
    involuntary: Number = 0
    """How often it was preempted."""
    waited_ns: Number = 0
    """Time in calls that can block for earlier work (`Role.WAITS`)."""


class Metadata(msgspec.Struct):
    """Where a frame comes from."""

    program: str = ""
    arguments: list[str] = msgspec.field(default_factory=list)
    captured_at: str = ""
    frame_number: Number = 0
    frame_end: str = msgspec.field(default="swap", name="boundary")
    wendascope: str = ""
    capture_seconds: float = 0.0
    held_seconds: float = 0.0
    recorded_ns: Number = 0
    """Time between the frame ends while the frame was being recorded."""
    began_ns: Number = 0
    """When recording began, on the clock of the calls; 0 where it is not known."""
    thread_ns: Number = 0
    """CPU time of the recorded thread meanwhile; 0 where it is not known."""
    voluntary: Number = 0
    """How often that thread gave the processor away meanwhile."""
    involuntary: Number = 0
    """How often it was preempted meanwhile."""
    driver_memory: dict[str, Number] = {}
    """Region of graphics memory -> bytes that the kernel says the process kept there; empty where it says nothing."""
    left_out: list[str] = []
    """Contents not kept because the frame clears them before anything reads them."""
    note: str = ""


@dataclass
class Picture:
    """Pixels, bottom row first: array (height, width, 4), uint8."""

    pixels: npt.NDArray[np.uint8]

    @property
    def width(self) -> int:
        return int(self.pixels.shape[1])

    @property
    def height(self) -> int:
        return int(self.pixels.shape[0])

    @classmethod
    def from_bytes(cls, data: bytes, width: int, height: int) -> Picture:
        return cls(np.frombuffer(data, np.uint8, width * height * 4).reshape(height, width, 4))


@dataclass
class Section:
    """Facts of a step that belong together."""

    title: str
    rows: list[tuple[str, str]] = field(default_factory=list)


class Frame(ABC):
    """One captured frame. Everything derived is computed once, when first asked for.

    An API gives a subclass; `backends.opengl.frame.OpenGLFrame` is one, and tests have another that nothing was
    captured for.
    """

    metadata: Metadata
    context: ContextInfo
    frame_statistics: list[FrameStatistics]
    caveats: list[str]
    reference: Picture | None
    """The finished picture as the captured program showed it."""

    # ---- the timeline ---------------------------------------------------------------------------------

    @property
    @abstractmethod
    def size(self) -> tuple[int, int]:
        """Width and height of the window, in pixels."""

    @property
    @abstractmethod
    def has_alpha(self) -> bool:
        """Whether the window keeps alpha, so that it counts where pictures are compared."""

    @property
    @abstractmethod
    def finished_target(self) -> Target:
        """The target that the reference picture shows."""

    @property
    @abstractmethod
    def alpha_matters(self) -> bool:
        """Whether the finished picture is to be the same in alpha: a window without alpha reads back as 1 here and
        as anything there.
        """

    @property
    @abstractmethod
    def finished_depth(self) -> npt.NDArray[np.uint32] | None:
        """Depth of the window at the end, as the capture keeps it, shape (pixels,); None where it does not."""

    @property
    @abstractmethod
    def steps(self) -> StepTable: ...

    @property
    @abstractmethod
    def passes(self) -> PassTable: ...

    @property
    @abstractmethod
    def cpu_lane(self) -> CpuLane:
        """The CPU side of this frame while it was recorded."""

    @property
    @abstractmethod
    def with_following(self) -> Self:
        """This frame and the one after it as one frame, whose first calls, steps and objects are those of this one.

        The same frame where nothing is known of the one after.
        """

    @property
    @abstractmethod
    def knows_following(self) -> bool:
        """Whether the calls of the frame after were recorded as well."""

    @abstractmethod
    def parts(self) -> Parts:
        """What a file keeps of it."""

    # ---- what it uses ---------------------------------------------------------------------------------

    @property
    @abstractmethod
    def uses(self) -> StepUses: ...

    @property
    @abstractmethod
    def resource_flow(self) -> ResourceFlow: ...

    @property
    @abstractmethod
    def programs(self) -> Mapping[int, Program]:
        """Programs whose sources are known, by name."""

    @property
    @abstractmethod
    def textures(self) -> Mapping[int, Texture]:
        """Textures by name."""

    @abstractmethod
    def stored_texture(self, name: int) -> int:
        """The texture that holds the texels of one: another one where it is a view."""

    @property
    @abstractmethod
    def object_counts(self) -> dict[str, int]:
        """Class of objects, in words -> how many there are."""

    @abstractmethod
    def texture_pixels(self, name: int) -> npt.NDArray[np.uint8] | None:
        """The first level of a texture with eight bits a channel as RGBA, bottom row first, shape (height, width, 4);
        None where that is not known.
        """

    @abstractmethod
    def texture_channels(self, name: int) -> int:
        """Channels that such a texture stores for a texel; 0 where that is not known."""

    @property
    def step_inputs(self) -> tuple[Numbers, Mask]:
        """(a number for all that each step depends on, whether that is known), shape (steps,). Equal numbers of known
        steps, also in other frames of the program, are the same draw of the same data.
        """
        count = len(self.steps)
        return np.zeros(count, np.uint64), np.zeros(count, bool)

    def image_format(self, _kind: str, _name: int) -> Format:
        """How a `texture` or a `renderbuffer` stores its texels, where that is known."""
        return NO_TEXELS

    @property
    def memory(self) -> list[MemoryItem]:
        """Every object in graphics memory when the frame begins."""
        return []

    @property
    def fetched(self) -> dict[int, Fetched]:
        """Buffer -> what draws fetch of it; without those of which that is not known, or which are read otherwise."""
        return {}

    @property
    def samplers_decide(self) -> bool:
        """Whether any step reads textures by filters that are not the textures' own."""
        return True

    def stored_values(self, name: int, level: int = 0, layer: int = 0) -> ImageValues | None:
        """Texels of a texture as the frame finds it; None where they are not kept, or compressed."""
        return None

    def step_mesh(self, step: int) -> StepMesh | None:
        """Vertices and triangles of a draw, as its buffers hold them; None where there are none, or nobody knows."""
        return None

    def stored_image(self, name: int) -> StoredImage | None:
        """A whole texture as it is stored when the frame begins; None where not all of it is kept."""
        return None

    def buffer_bytes(self, name: int) -> bytes | None:
        """What a buffer holds when the frame begins; None where that is not kept."""
        return None

    def buffer_layouts(self, name: int) -> list[BufferLayout]:
        """Ways in which steps read a buffer, those of most steps first."""
        return []

    @property
    def same_uploads(self) -> list[tuple[int, int]]:
        """(call, bytes) of every upload of bytes that are there already."""
        return []

    @property
    def joinable_runs(self) -> list[list[int]]:
        """Runs of steps given vertex by vertex, with nothing between them that keeps them from being one; none where
        the API has no such draws.
        """
        return []

    # ---- its calls ------------------------------------------------------------------------------------

    @property
    @abstractmethod
    def call_count(self) -> int: ...

    @property
    @abstractmethod
    def unused_bytes(self) -> int:
        """Bytes of contents that nothing in the frame names, before compression."""

    @abstractmethod
    def call_name(self, call: int) -> str:
        """The command that a call calls."""

    @abstractmethod
    def call_text(self, call: int) -> str:
        """A call as it would be written."""

    @abstractmethod
    def call_use(self, alive: Mask | None = None, allowed: Mapping[int, Mask] | None = None) -> CallUse:
        """Judge every call. `alive`, shape (steps,), says which steps there are, where some are left out.

        `allowed` are the calls that may be called repeats or overwritten, by use: what is found then can be left out
        all together, and what is not in it stays. Without it, all may be.
        """

    @abstractmethod
    def program_at(self, calls: Ints) -> Ints:
        """The program in use when each of some calls comes, shape (n,)."""

    @abstractmethod
    def waited_for(self, call: int) -> str:
        """What a waiting call waits for, in words."""

    def waits_anyway(self, call: int) -> bool:
        """Whether a waiting call is one that need not wait, and that this driver waits in all the same."""
        return False

    @property
    def side_work(self) -> list[SideWork]:
        """What the frame does beside drawing."""
        return []

    @property
    def waits(self) -> list[Wait]:
        """Every call that waited noticeably, longest first."""
        lane = self.cpu_lane
        rows = np.flatnonzero(lane.waits & (lane.duration >= SHORTEST_MS)).tolist()
        found = [
            Wait(c, self.call_name(c), float(lane.duration[c]), self.waited_for(c), self.waits_anyway(c)) for c in rows
        ]
        return sorted(found, key=lambda wait: -wait.ms)

    @property
    @abstractmethod
    def polled_ms(self) -> float:
        """Time of the recorded frame in which the program asked again and again whether the GPU was done: its thread
        ran, and waited.
        """

    @property
    def call_ms(self) -> Floats:
        """CPU time inside each call as recorded, ms, shape (calls,); 0 for calls that waited for earlier work."""
        lane = self.cpu_lane
        return np.where(lane.waits, 0.0, lane.duration)

    @cached_property
    def pass_roles(self) -> list[PassRole]:
        """What each pass does in the frame."""
        return roles_of(self)

    # ---- in words -------------------------------------------------------------------------------------

    @abstractmethod
    def step_name(self, step: int) -> str:
        """A step in a few words: what it does and to how much."""

    @property
    def step_names(self) -> list[str]:
        """The name of every step."""
        return [self.step_name(step) for step in range(len(self.steps))]

    @abstractmethod
    def step_facts(self, step: int) -> list[Section]:
        """Everything that decides what a step does, in the order in which a reader wants it."""

    def setting_text(self, step: int, key: str) -> str:
        """What a step has of one key that keeps draws apart (`program`, `texture`, `blend`, ...), in a few words."""
        if key == "program":
            return self.program_name(int(self.steps.program[step]))
        return f"as in step {step:,}"

    def program_name(self, program: int) -> str:
        """The program's label where it has one, its number otherwise."""
        record = self.programs.get(program)
        return record.label if record and record.label else f"program {program}" if program else "none"

    def texture_name(self, texture: int) -> str:
        """The texture's label where it has one, its size and number otherwise."""
        record = self.textures.get(texture)
        if record is None or record.label:
            return record.label if record else f"texture {texture}"
        size = f"{record.width}²" if record.width == record.height else f"{record.width}x{record.height}"
        return f"{size} texture {texture}"

    def mesh_label(self, step: int) -> str:
        """What the program calls the mesh that a step draws; empty where it says nothing."""
        return ""

    @cached_property
    def grouping(self) -> Grouping:
        """The steps in groups, by what each is, uses and draws."""
        return Grouping(self)

    @property
    def target_frame_ms(self) -> float | None:
        """Median time of the target's own frames before the capture, from frame end to frame end."""
        if not self.frame_statistics:
            return None
        return float(np.median([(b.cpu_ns + b.swap_ns) / 1e6 for b in self.frame_statistics]))
