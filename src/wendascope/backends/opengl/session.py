"""A rebuilt OpenGL frame behind the doors of `backends.doors`."""

from __future__ import annotations

import functools
from collections.abc import Iterable, Sequence
from contextlib import AbstractContextManager
from typing import cast

import msgspec
import numpy as np
import numpy.typing as npt

from wendascope.backends.contents import Contents, Store, StoredImages
from wendascope.backends.doors import (
    Counter,
    Counters,
    Counting,
    DrawState,
    KnownWork,
    Mark,
    Mask,
    Positions,
    Prepared,
    Probed,
    Probing,
    StepMesh,
    Studio,
    Writes,
)
from wendascope.backends.edit import Calls
from wendascope.backends.opengl.calls.enclosed import within_queries
from wendascope.backends.opengl.calls.packed import CallBatch
from wendascope.backends.opengl.calls.returned import counting_queries, returned
from wendascope.backends.opengl.instruments.clocks import read_clocks
from wendascope.backends.opengl.instruments.count_layers import count_layers, runs_once
from wendascope.backends.opengl.instruments.image_reading import read_values
from wendascope.backends.opengl.instruments.known_work import FullScreenWork
from wendascope.backends.opengl.instruments.mesh_inputs import step_mesh
from wendascope.backends.opengl.instruments.noting import cannot_note, notable, run_noting
from wendascope.backends.opengl.instruments.pass_images import digests, stays
from wendascope.backends.opengl.instruments.pixel_probe import PixelProbe
from wendascope.backends.opengl.instruments.positions import measure_positions
from wendascope.backends.opengl.instruments.queries import QueryCounters, can_count
from wendascope.backends.opengl.instruments.studio import MeshStudio
from wendascope.backends.opengl.instruments.wide_targets import wide_targets, wide_values
from wendascope.backends.opengl.objects.records import ProgramRecord
from wendascope.backends.opengl.running.draw_state import DrawState as OpenGLState
from wendascope.backends.opengl.running.edit import own_calls
from wendascope.backends.opengl.running.images import images_now, put_images
from wendascope.backends.opengl.running.instrumented import instrumented
from wendascope.backends.opengl.running.left_behind import picture_in_between, read_back, read_left_behind
from wendascope.backends.opengl.running.scramble import scramble, undefined_stores, written_stores
from wendascope.backends.opengl.running.session import PreparedCalls, ReplaySession
from wendascope.backends.opengl.running.span_start import SpanStart, step_calls
from wendascope.backends.opengl.running.walk import Walk
from wendascope.backends.opengl.tables.colour_outputs import ColourOutputs
from wendascope.backends.opengl.tables.unread_stores import unread_stores
from wendascope.backends.opengl.tables.written import Written, written_objects
from wendascope.backends.slots import Slot
from wendascope.frame.contents import ImageValues
from wendascope.frame.layers import PassLayers
from wendascope.frame.passes import Target
from wendascope.glsl.words import replace_words
from wendascope.registry import GL, STEPS, tables
from wendascope.task import Task

_STUDIO: Slot[MeshStudio] = Slot("studio")


class OpenGLSession(ReplaySession):
    """Runs a frame, and looks into it while it runs."""

    def walk(self) -> Walk:
        return Walk(self)

    def span_start(self, call: int) -> SpanStart:
        return SpanStart(self, call)

    def writes(self, first: int = 0, end: int | None = None) -> Writes:
        return written_objects(self.frame, first, end)

    def written_texels(self) -> int:
        objects, written = self.frame.objects, self.written
        images = [i for t in objects.textures if t.name in written.textures for i in t.images]
        stores = [r for r in objects.renderbuffers if r.name in written.renderbuffers]
        return sum(i.width * i.height * i.depth for i in images) + sum(r.width * r.height for r in stores)

    def following(self) -> AbstractContextManager[OpenGLSession]:
        return self.variant("with the frame after", lambda frame: frame.with_following)

    def step_calls(self, step: int) -> tuple[int, int]:
        return step_calls(self.frame, step)

    def draws(self, calls: Calls) -> bool:
        batch, commands = own_calls(calls), tables().commands
        return any(commands[batch.words[start] & 0xFFFF].has(STEPS) for start in batch.starts)

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

    # ---- what is left behind -------------------------------------------------------------------------

    def picture_in_between(self) -> npt.NDArray[np.uint8]:
        return picture_in_between(self)

    def contents(self, of: Writes | None = None) -> Contents:
        written = self.written if of is None else of
        assert isinstance(written, Written)
        return read_left_behind(self, written, self._counting_queries)

    @functools.cached_property
    def _counting_queries(self) -> list[int]:
        return counting_queries(self.frame)

    def read_back(self, prepared: Prepared) -> Contents:
        assert isinstance(prepared, PreparedCalls)
        return read_back(prepared)

    def written_stores(self) -> list[Store]:
        return written_stores(self)

    def undefined_stores(self) -> list[Store]:
        return undefined_stores(self)

    def meaningless_stores(self) -> set[Store]:
        undefined = ColourOutputs(self.frame).undefined_attachments()
        return {Store(*found) for found in undefined | unread_stores(self.frame)}

    def returned_stores(self) -> set[Store]:
        return {Store(*found) for found in returned(self.frame.with_following)}

    def fill(self, stores: Iterable[Store], pattern: int) -> Calls:
        return scramble(self, stores, pattern)

    def images_now(self, targets: Iterable[Target]) -> StoredImages:
        return images_now(self, targets)

    def put_images(self, stored: StoredImages) -> Calls:
        return put_images(self, stored)

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

    # ---- shaders that note ---------------------------------------------------------------------------

    def cannot_note(self) -> str:
        return cannot_note(self)

    def notable(self) -> dict[int, str]:
        return notable(self.frame)

    def run_noting(
        self, sources: dict[int, str], notes: bytes, places: Sequence[tuple[int, int]], part: int
    ) -> bytes | None:
        return run_noting(self, sources, notes, places, part)

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
