"""A rebuilt OpenGL frame behind the doors of `backends.doors`."""

from __future__ import annotations

import functools
from collections.abc import Iterable, Sequence
from contextlib import AbstractContextManager
from typing import cast

import msgspec

from wendascope.backends.doors import (
    Counter,
    Counters,
    Counting,
    DrawState,
    KnownWork,
    Mark,
    Mask,
    Positions,
    Probed,
    Probing,
    StepMesh,
    Studio,
)
from wendascope.backends.edit import Calls
from wendascope.backends.opengl.calls.enclosed import within_queries
from wendascope.backends.opengl.calls.packed import CallBatch
from wendascope.backends.opengl.instruments.clocks import read_clocks
from wendascope.backends.opengl.instruments.count_layers import count_layers, runs_once
from wendascope.backends.opengl.instruments.image_reading import read_values
from wendascope.backends.opengl.instruments.known_work import FullScreenWork
from wendascope.backends.opengl.instruments.mesh_inputs import step_mesh
from wendascope.backends.opengl.instruments.pass_images import digests, stays
from wendascope.backends.opengl.instruments.pixel_probe import PixelProbe
from wendascope.backends.opengl.instruments.positions import measure_positions
from wendascope.backends.opengl.instruments.queries import QueryCounters, can_count
from wendascope.backends.opengl.instruments.studio import MeshStudio
from wendascope.backends.opengl.instruments.wide_targets import wide_targets, wide_values
from wendascope.backends.opengl.objects.records import ProgramRecord
from wendascope.backends.opengl.running.draw_state import DrawState as OpenGLState
from wendascope.backends.opengl.running.instrumented import instrumented
from wendascope.backends.opengl.running.session import ReplaySession
from wendascope.backends.opengl.running.walk import Walk
from wendascope.backends.slots import Slot
from wendascope.frame.contents import ImageValues
from wendascope.frame.layers import PassLayers
from wendascope.frame.passes import Target
from wendascope.glsl.words import replace_words
from wendascope.registry import GL
from wendascope.task import Task

_STUDIO: Slot[MeshStudio] = Slot("studio")


class OpenGLSession(ReplaySession):
    """Runs a frame, and looks into it while it runs."""

    def walk(self) -> Walk:
        return Walk(self)

    def marks(self, *marks: Mark) -> Calls:
        batch = CallBatch()
        for mark in marks:
            match mark:
                case Mark.CLOCK | Mark.DRAINED_CLOCK:
                    read_clocks(batch, drained=mark == Mark.DRAINED_CLOCK)
                case Mark.FRAGMENTS_OFF:
                    batch.call("glEnable", GL.RASTERIZER_DISCARD)
                case Mark.FRAGMENTS_ON:
                    batch.call("glDisable", GL.RASTERIZER_DISCARD)
        return batch

    def can_mark(self, mark: Mark) -> bool:
        return mark in (Mark.CLOCK, Mark.DRAINED_CLOCK) or self.offers.value(GL.RASTERIZER_DISCARD)

    def can_count(self, counter: Counter) -> bool:
        return can_count(self, counter)

    def counters(self, counters: Iterable[Counter], spans: int) -> Counters:
        return QueryCounters(self, counters, spans)

    def known_work(self) -> KnownWork:
        return FullScreenWork(self)

    # ---- contents ------------------------------------------------------------------------------------

    def image_values(self, kind: str, name: int, level: int, layer: int) -> ImageValues:
        return read_values(self, kind, name, level, layer)

    def has_wide_targets(self) -> bool:
        found = wide_targets(self.frame)
        return bool(found.textures or found.renderbuffers)

    def wide_targets(self) -> list[tuple[str, int, ImageValues]]:
        return wide_values(self)

    def stays(self, index: int) -> bool:
        return stays(self, index)

    def digests(self, targets: Sequence[Target]) -> list[str]:
        return digests(self, targets)

    # ---- looking inside ------------------------------------------------------------------------------

    def counting(self, discards: bool = True) -> AbstractContextManager[OpenGLSession]:
        change = instrumented if discards else functools.partial(instrumented, change_program=without_discard)
        return self.variant("counting" if discards else "no discard", change)

    def runs_once(self) -> Mask:
        return runs_once(self.frame)

    def has_effects(self) -> Mask:
        return self.runs_once() | within_queries(self.frame)

    def positions(self, task: Task) -> Positions[DrawState]:
        return cast("Positions[DrawState]", measure_positions(self, task))

    def count_layers(self, task: Task, counting: Counting[DrawState]) -> list[PassLayers]:
        return count_layers(self, task, cast("Counting[OpenGLState]", counting))

    def probe(self, task: Task, asked: Probing[DrawState]) -> list[Probed]:
        return PixelProbe(self, cast("Probing[OpenGLState]", asked)).run()

    def mesh(self, step: int) -> StepMesh:
        return step_mesh(self, step)

    def studio(self) -> Studio:
        return self.slots.get(_STUDIO, lambda: MeshStudio(self))


def without_discard(program: ProgramRecord) -> ProgramRecord:
    """The program with fragment shaders that keep every fragment: `discard` becomes a statement that does nothing."""
    shaders = [
        msgspec.structs.replace(s, source=replace_words(s.source, {"discard": "0"}))
        if s.type == GL.FRAGMENT_SHADER
        else s
        for s in program.shaders
    ]
    return msgspec.structs.replace(program, shaders=shaders)
