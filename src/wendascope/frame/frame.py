"""A captured frame in memory: columns of calls, records of objects, and what follows from them."""

from __future__ import annotations

import functools
from dataclasses import dataclass, field

import msgspec
import numpy as np
import numpy.typing as npt

from wendascope.frame.objects import BlobStore, ContextInfo, DefaultFramebuffer, Objects
from wendascope.frame.packed import CallStream, merge_streams
from wendascope.frame.passes import PassTable, derive_passes
from wendascope.frame.setting_values import SettingValues
from wendascope.frame.steps import StepTable, derive_steps
from wendascope.frame.tracker import InitialState, StateHistory


class Heartbeat(msgspec.Struct, array_like=True):
    """One ordinary frame of the target, as the tap reported it. Times in nanoseconds."""

    frame: int
    cpu_ns: int
    swap_ns: int
    calls: int
    draws: int
    vertices: int


class Metadata(msgspec.Struct):
    """Where a frame comes from."""

    program: str = ""
    arguments: list[str] = msgspec.field(default_factory=list)
    captured_at: str = ""
    frame_number: int = 0
    boundary: str = "swap"
    wendascope: str = ""
    capture_seconds: float = 0.0
    held_seconds: float = 0.0
    recorded_ns: int = 0
    """Time between the boundaries while the frame was being recorded."""
    left_out: list[str] = []
    """Contents not kept because the frame clears them before anything reads them."""
    note: str = ""


@dataclass
class Picture:
    """Pixels, bottom row first as GL has them: array (height, width, 4), uint8."""

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
class Frame:
    """One captured frame. Everything derived is computed once, when first asked for."""

    metadata: Metadata
    context: ContextInfo
    default_framebuffer: DefaultFramebuffer
    state: InitialState
    objects: Objects
    blobs: BlobStore
    calls: CallStream
    setup: CallStream = field(default_factory=lambda: merge_streams([]))
    """Calls that set the state before the frame which the state table does not hold: the fixed-function state."""
    lists: CallStream = field(default_factory=lambda: merge_streams([]))
    """Calls that make the display lists alive before the frame."""
    heartbeats: list[Heartbeat] = field(default_factory=list)
    caveats: list[str] = field(default_factory=list)
    reference: Picture | None = None
    reference_framebuffer: int = 0
    """Framebuffer that the reference picture was read from; 0 is the window."""
    reference_depth: bytes | None = None
    """Depth of the finished window, 32-bit integers, bottom row first; None where it was not collected."""

    @functools.cached_property
    def history(self) -> StateHistory:
        return StateHistory(self.calls, self.state)

    @functools.cached_property
    def setting_values(self) -> SettingValues:
        return SettingValues(self.calls, self.history)

    @functools.cached_property
    def steps(self) -> StepTable:
        return derive_steps(self.calls, self.history, self.lists)

    @functools.cached_property
    def passes(self) -> PassTable:
        return derive_passes(self.calls, self.history, self.steps, self.objects, self.default_framebuffer)

    @property
    def target_frame_ms(self) -> float | None:
        """Median time of the target's own frames before the capture, from boundary to boundary."""
        if not self.heartbeats:
            return None
        return float(np.median([(b.cpu_ns + b.swap_ns) / 1e6 for b in self.heartbeats]))
