"""A captured frame of OpenGL in memory: columns of calls, records of objects, and what follows from them."""

from __future__ import annotations

import dataclasses
import functools
from collections.abc import Mapping
from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt

from wendascope.backends.opengl.calls.contexts import OtherContext, owners
from wendascope.backends.opengl.calls.immediate import joinable_runs
from wendascope.backends.opengl.calls.packed import CallStream, merge_streams
from wendascope.backends.opengl.calls.polls import as_waits, polls
from wendascope.backends.opengl.calls.prune import unused_bytes
from wendascope.backends.opengl.calls.side_work import side_work
from wendascope.backends.opengl.calls.waits import waited_for, waits_anyway
from wendascope.backends.opengl.codec import encode
from wendascope.backends.opengl.objects.buffer_contents import BufferContents
from wendascope.backends.opengl.objects.contents import buffer_bytes, buffer_layouts, stored_values
from wendascope.backends.opengl.objects.meshes import step_mesh
from wendascope.backends.opengl.objects.pixels import stored_channels, texture_pixels
from wendascope.backends.opengl.objects.records import DefaultFramebuffer, Objects, ProgramRecord, TextureRecord
from wendascope.backends.opengl.objects.stored_images import stored_image
from wendascope.backends.opengl.objects.texel_formats import texel_format
from wendascope.backends.opengl.state.setting_values import SettingValues
from wendascope.backends.opengl.state.tracker import InitialState, StateHistory
from wendascope.backends.opengl.tables.call_use import call_use
from wendascope.backends.opengl.tables.fetched import fetched_bytes
from wendascope.backends.opengl.tables.inputs import SamplerUnits
from wendascope.backends.opengl.tables.memory import memory_items
from wendascope.backends.opengl.tables.passes import derive_passes
from wendascope.backends.opengl.tables.resource_flow import resource_flow
from wendascope.backends.opengl.tables.same_uploads import same_uploads
from wendascope.backends.opengl.tables.step_inputs import step_inputs
from wendascope.backends.opengl.tables.step_uses import OpenGLUses
from wendascope.backends.opengl.tables.steps import derive_steps
from wendascope.backends.opengl.words.describe import call_text, step_name, step_names
from wendascope.backends.opengl.words.facts import mesh_label, setting_text, step_facts
from wendascope.frame.blobs import BlobStore
from wendascope.frame.call_use import CallUse
from wendascope.frame.contents import BufferLayout, ImageValues
from wendascope.frame.context import ContextInfo
from wendascope.frame.cpu import PREEMPTED_TIMES, CpuLane, cpu_lane
from wendascope.frame.formats import NO_TEXELS, Format
from wendascope.frame.frame import Frame, FrameStatistics, Metadata, Picture, Section
from wendascope.frame.memory import Fetched, MemoryItem
from wendascope.frame.mesh import StepMesh
from wendascope.frame.numbers import Ints, Mask, Numbers
from wendascope.frame.parts import Parts
from wendascope.frame.passes import PassTable, Target
from wendascope.frame.resource_flow import ResourceFlow
from wendascope.frame.roles import pass_names
from wendascope.frame.side_work import SideWork
from wendascope.frame.steps import StepTable
from wendascope.frame.stored_image import StoredImage
from wendascope.registry import Role


@dataclass
class OpenGLFrame(Frame):
    """One captured frame of OpenGL or OpenGL ES."""

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
    frame_statistics: list[FrameStatistics] = field(default_factory=list)
    caveats: list[str] = field(default_factory=list)
    reference: Picture | None = None
    reference_framebuffer: int = 0
    """Framebuffer that the reference picture was read from; 0 is the window."""
    reference_depth: bytes | None = None
    """Depth of the finished window, 32-bit integers, bottom row first; None where it was not collected."""
    following: CallStream = field(default_factory=lambda: merge_streams([]))
    """Calls of the frame after this one: they tell what of the contents that this frame leaves behind is read again.
    Empty where they were not recorded."""
    other_contexts: list[OtherContext] = field(default_factory=list)
    """Contexts whose calls are among those of the frame, besides its own; their containers have names of their own."""

    @functools.cached_property
    def history(self) -> StateHistory:
        return StateHistory(self.calls, self.state, {t.name: t.target for t in self.objects.textures})

    @functools.cached_property
    def setting_values(self) -> SettingValues:
        return SettingValues(self.calls, self.history)

    @functools.cached_property
    def sampler_units(self) -> SamplerUnits:
        return SamplerUnits(self.calls, self.history)

    @functools.cached_property
    def owners(self) -> Ints:
        """Whose each call is, shape (calls,): 0 for the frame's own context, else one of the others counted from 1."""
        return owners(self.calls, self.other_contexts)

    # ---- the timeline ---------------------------------------------------------------------------------

    @property
    def size(self) -> tuple[int, int]:
        return self.default_framebuffer.width, self.default_framebuffer.height

    @functools.cached_property
    def step_inputs(self) -> tuple[Numbers, Mask]:
        return step_inputs(self)

    def image_format(self, kind: str, name: int) -> Format:
        if kind == "texture":
            record = self.textures.get(name)
            return texel_format(record.images[0].internal_format) if record and record.images else NO_TEXELS
        found = next((r for r in self.objects.renderbuffers if r.name == name), None)
        return texel_format(found.internal_format) if found else NO_TEXELS

    @functools.cached_property
    def memory(self) -> list[MemoryItem]:
        return memory_items(self)

    @functools.cached_property
    def fetched(self) -> dict[int, Fetched]:
        return fetched_bytes(self)

    @property
    def samplers_decide(self) -> bool:
        units = self.history.keys("sampler")
        return any(self.history.column("sampler", self.steps.call, unit).any() for unit, _ in units)

    def stored_values(self, name: int, level: int = 0, layer: int = 0) -> ImageValues | None:
        return stored_values(self, name, level, layer)

    def step_mesh(self, step: int) -> StepMesh | None:
        return step_mesh(self, step)

    def stored_image(self, name: int) -> StoredImage | None:
        return stored_image(self, name)

    def buffer_bytes(self, name: int) -> bytes | None:
        return buffer_bytes(self, name)

    def buffer_layouts(self, name: int) -> list[BufferLayout]:
        return buffer_layouts(self, name)

    @functools.cached_property
    def buffer_contents(self) -> BufferContents:
        """What its buffers hold over its calls."""
        return BufferContents(self)

    @functools.cached_property
    def same_uploads(self) -> list[tuple[int, int]]:
        return same_uploads(self)

    @property
    def has_alpha(self) -> bool:
        return self.default_framebuffer.alpha > 0

    @functools.cached_property
    def finished_target(self) -> Target:
        shown = self.reference_framebuffer
        size = (self.reference.width, self.reference.height) if self.reference else self.size
        last = next((t for t in reversed(self.passes.targets) if t.framebuffer == shown), None)
        return Target(shown, last.attachments if last else (), *size)

    def stored_texture(self, name: int) -> int:
        return self._viewed.get(name, name)

    @functools.cached_property
    def _viewed(self) -> dict[int, int]:
        return {t.name: t.view_of for t in self.objects.textures if t.view_of}

    @property
    def alpha_matters(self) -> bool:
        return self.reference_framebuffer != 0 or self.has_alpha

    @property
    def finished_depth(self) -> npt.NDArray[np.uint32] | None:
        return None if self.reference_depth is None else np.frombuffer(self.reference_depth, np.uint32)

    @functools.cached_property
    def steps(self) -> StepTable:
        return derive_steps(self.calls, self.history, self.lists)

    @functools.cached_property
    def passes(self) -> PassTable:
        owner = self.owners[self.steps.call]
        found = derive_passes(self.calls, self.history, self.steps, self.objects, self.default_framebuffer, owner)
        found.derive = lambda: pass_names(self, self.pass_roles)
        return found

    @functools.cached_property
    def with_following(self) -> OpenGLFrame:
        if len(self.following) == 0:
            return self
        return dataclasses.replace(self, calls=merge_streams([self.calls, self.following]), following=merge_streams([]))

    @property
    def knows_following(self) -> bool:
        return len(self.following) > 0

    @functools.cached_property
    def cpu_lane(self) -> CpuLane:
        m, calls = self.metadata, self.calls
        own = calls.threads[np.flatnonzero(self.owners == 0)[-1:]]
        elsewhere = (self.owners > 0) & ~np.isin(calls.threads, own)
        ended = np.where(elsewhere, calls.begin_ns, calls.end_ns)  # calls of other threads take none of this one's time
        ended, polling = as_waits(self._poll_runs, calls.begin_ns, ended)
        waits = (calls.having(Role.WAITS) | polling) & ~elsewhere
        lane = functools.partial(cpu_lane, calls.ids, (calls.begin_ns, ended), waits)
        if not m.began_ns:
            return lane()
        idle = max(m.recorded_ns - m.thread_ns, 0) if m.thread_ns else None
        return lane(m.began_ns, m.recorded_ns, idle, m.involuntary > PREEMPTED_TIMES * max(m.voluntary, 1))

    @functools.cached_property
    def polled_ms(self) -> float:
        return float(sum(self.cpu_lane.duration[first] for first, _ in self._poll_runs))

    @functools.cached_property
    def _poll_runs(self) -> list[tuple[int, int]]:
        return polls(self)

    def parts(self) -> Parts:
        return encode(self)

    # ---- what it uses ---------------------------------------------------------------------------------

    @functools.cached_property
    def uses(self) -> OpenGLUses:
        return OpenGLUses(self)

    @functools.cached_property
    def joinable_runs(self) -> list[list[int]]:
        return joinable_runs(self)

    @functools.cached_property
    def resource_flow(self) -> ResourceFlow:
        return resource_flow(self)

    @functools.cached_property
    def programs(self) -> dict[int, ProgramRecord]:
        return {p.name: p for p in self.objects.programs}

    @functools.cached_property
    def textures(self) -> dict[int, TextureRecord]:
        return {t.name: t for t in self.objects.textures}

    @property
    def object_counts(self) -> dict[str, int]:
        fields = self.objects.__struct_fields__
        return {name.replace("_", " "): len(getattr(self.objects, name)) for name in fields}

    def texture_pixels(self, name: int) -> npt.NDArray[np.uint8] | None:
        return texture_pixels(self, name)

    def texture_channels(self, name: int) -> int:
        return stored_channels(self.textures[name]) if name in self.textures else 0

    # ---- its calls ------------------------------------------------------------------------------------

    @property
    def call_count(self) -> int:
        return len(self.calls)

    @property
    def unused_bytes(self) -> int:
        return unused_bytes(self)

    def call_name(self, call: int) -> str:
        return self.calls.command(call).name

    def call_text(self, call: int) -> str:
        return call_text(self, call)

    def call_use(self, alive: Mask | None = None, allowed: Mapping[int, Mask] | None = None) -> CallUse:
        return call_use(self, alive, allowed)

    def program_at(self, calls: Ints) -> Ints:
        return self.history.column("program", calls)

    def waited_for(self, call: int) -> str:
        return waited_for(self, call)

    def waits_anyway(self, call: int) -> bool:
        return waits_anyway(self, call)

    # ---- in words -------------------------------------------------------------------------------------

    def step_name(self, step: int) -> str:
        return step_name(self, step)

    @functools.cached_property
    def step_names(self) -> list[str]:
        return step_names(self)

    def step_facts(self, step: int) -> list[Section]:
        return step_facts(self, step)

    @functools.cached_property
    def side_work(self) -> list[SideWork]:
        return side_work(self)

    def mesh_label(self, step: int) -> str:
        return mesh_label(self, step)

    def setting_text(self, step: int, key: str) -> str:
        return setting_text(self, step, key) or super().setting_text(step, key)


def opengl_frame(frame: Frame) -> OpenGLFrame:
    """A frame whose calls and objects are those of OpenGL; it must be one."""
    assert isinstance(frame, OpenGLFrame)
    return frame
