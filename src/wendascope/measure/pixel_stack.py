"""The pixel stack: every step that touched one pixel, in order, and what became of its fragments."""

from __future__ import annotations

import msgspec
import numpy as np

from wendascope.analysis.layers import PassLayers
from wendascope.analysis.triangles import cover, window_points
from wendascope.backends.opengl.calls.packed import CallBatch
from wendascope.backends.opengl.running.draw_state import DrawState, StateReader
from wendascope.backends.opengl.running.instrumented import instrumented
from wendascope.backends.opengl.running.session import ReplaySession
from wendascope.backends.opengl.running.walk import Walk
from wendascope.errors import ReplayError
from wendascope.measure.clears import written_rectangle
from wendascope.measure.layers import runs_once, stencil_state
from wendascope.measure.overdraw import Geometry, geometry_of, layers_of, passes_shown, view_of
from wendascope.measure.stencil_mask import StencilMask
from wendascope.measure.target_reader import TargetReader
from wendascope.registry import GL
from wendascope.replay.jobs import remote
from wendascope.replay.progress import Job


class StackEntry(msgspec.Struct):
    """One step at the pixel. Counts are fragments (samples on a multisampled target)."""

    step: int
    fate: str
    """`visible`, `covered`, `blended`, `no change`, `behind`, `stencil`, `discarded`, `scissor`, `cleared`."""
    passed: int
    behind: int
    """Rejected by the depth test."""
    stencilled: int
    """Rejected by the stencil test."""
    discarded: int
    by: int | None = None
    """The later step that covers it."""
    colour: tuple[int, int, int, int] | None = None
    """Of the pixel after the step, eight bits a channel."""
    depth: float | None = None


class PixelStack(msgspec.Struct):
    x: int
    y: int
    target: str
    entries: list[StackEntry]
    caveats: list[str]


@remote
def pixel_stack(session: ReplaySession, job: Job, x: int, y: int, step: int | None = None) -> PixelStack:
    """Everything at pixel (x, y from the bottom) of a step's pass; without a step, of the window over the frame."""
    frame = session.frame
    passes = passes_shown(session, step)
    if not passes:
        raise ReplayError("no step draws into the window; choose a step to look at its target")
    target = frame.passes.targets[passes[0]]
    if not (0 <= x < target.width and 0 <= y < target.height):
        raise ReplayError(f"{target.name} has no pixel {x}, {y}")
    geometry = geometry_of(session, job)
    layers = layers_of(session, job, passes)
    job.progress("looking at the pixel", 0.0)
    with session.variant("counting", instrumented) as counting:
        entries = _Prober(counting, geometry, x, y).run(passes)
    for entry in entries:
        entry.passed = _count_at(layers, entry.step, x, y) or entry.passed
        entry.behind = max(entry.behind - entry.passed, 0)
    _decide(layers, entries)
    return PixelStack(x, y, target.name, entries, [caveat for item in layers for caveat in item.caveats])


def _count_at(layers: list[PassLayers], step: int, x: int, y: int) -> int:
    """Fragments of a step at a pixel: over its samples, over its layers."""
    for item in layers:
        for touch in item.touches:
            if touch.step == step and touch.kind != "clear":
                total = 0
                for layer in range(item.layers):
                    row = layer * item.height + y - touch.y
                    columns = slice(max(x * item.samples - touch.x, 0), max((x + 1) * item.samples - touch.x, 0))
                    if 0 <= row < touch.counts.shape[0]:
                        total += int(touch.counts[row, columns].sum())
                return total
    return 0


class _Prober:
    """Goes through the frame once; in the passes asked for, only the one pixel is drawn."""

    def __init__(self, session: ReplaySession, geometry: Geometry, x: int, y: int) -> None:
        self._session, self._geometry, self._x, self._y = session, geometry, x, y
        self._reader_of_state = StateReader(session)
        self._once = runs_once(session.frame)
        self._walk = Walk(session)

    def run(self, passes: list[int]) -> list[StackEntry]:
        frame, found = self._session.frame, []
        for index in passes:
            first, end = int(frame.passes.first[index]), int(frame.passes.end[index])
            self._walk.run_to(int(frame.steps.begin[first]))
            reader = TargetReader(self._session, frame.passes.targets[index], self._reader_of_state.read())
            for step in range(first, end):
                self._walk.run_to(int(frame.steps.begin[step]))
                state = self._geometry.positions.states[step]
                reader.at(state)
                entry = (
                    self._draw(step, state, reader)
                    if frame.steps.kind_name(step) == "draw"
                    else self._other(step, state, reader)
                )
                if entry is not None:
                    found.append(entry)
            reader.close()
        return found

    def _other(self, step: int, state: DrawState, reader: TargetReader) -> StackEntry | None:
        self._session.run_batch(stencil_state(state, self._session))
        self._walk.run_step(step)
        filled = written_rectangle(self._session.frame, step, reader.has_colour)
        if filled is None or not (filled[0] <= self._x < filled[2] and filled[1] <= self._y < filled[3]):
            return None
        return self._entry(step, reader, state, 1, 0, 0, 0)

    def _draw(self, step: int, state: DrawState, reader: TargetReader) -> StackEntry | None:
        x, y = self._x, self._y
        box = self._geometry.boxes.get(step, (0, 0, *reader.size))
        if box is None or not (box[0] <= x < box[2] and box[1] <= y < box[3]) or state.on("RASTERIZER_DISCARD"):
            self._plain(step, state)
            return None
        covered = self._covered(step, state, reader)
        if not self._in_scissor(state):
            self._plain(step, state)
            return StackEntry(step, "scissor", 0, 0, 0, 0) if covered else None
        if covered == 0:
            self._plain(step, state)
            return None
        self._scissor(state, True)
        reader.attach_stencil()
        if self._once[step]:
            return self._only_once(step, state, reader)
        own = state.on("STENCIL_TEST") and reader.own_stencil
        mask = StencilMask(self._session, reader, state) if own else None
        if mask is not None and mask.refused:
            mask = None
        if mask is not None:
            mask.save()
        reached = self._count(step, state, reader, (GL.KEEP, GL.INCR, GL.INCR))
        stencilled = 0
        if mask is not None:
            mask.restore()
            mask.mark()
            stencilled = reached if int(reader.read_stencil((x, y, x + 1, y + 1)).max(initial=0)) == 255 else 0
            mask.restore()
        self._session.run_batch(stencil_state(state, self._session))
        passed = 0
        if own:
            self._walk.again(step)
        else:
            passed = self._passes(step, state, reader)
        self._scissor(state, False)
        discarded = max(covered - reached, 0) if covered is not None else 0
        if not (reached or discarded):
            return None
        return self._entry(step, reader, state, passed, reached, stencilled, discarded)

    def _only_once(self, step: int, state: DrawState, reader: TargetReader) -> StackEntry | None:
        """A step that must not run twice: what passes is known from the layers, the rest is not told apart."""
        self._session.run_batch(stencil_state(state, self._session))
        self._walk.run_step(step)
        self._scissor(state, False)
        return self._entry(step, reader, state, 0, 0, 0, 0)

    def _plain(self, step: int, state: DrawState) -> None:
        """A step that does not come to the pixel: it need not draw anything."""
        self._session.run_batch(stencil_state(state, self._session))
        self._scissor(state, True)
        self._walk.run_step(step)
        self._scissor(state, False)

    def _covered(self, step: int, state: DrawState, reader: TargetReader) -> int | None:
        """Triangles of the step that cover the pixel's centre; None where positions do not tell."""
        triangles = self._geometry.triangles.get(step)
        if triangles is None or reader.samples > 1 or state.value("POLYGON_MODE") != GL.FILL:
            return None
        target = self._session.frame.passes.targets[int(self._session.frame.passes.of_step[step])]
        boxes, x, y = triangles.boxes, self._x, self._y
        near = np.flatnonzero(
            (boxes[:, 0] <= x) & (boxes[:, 1] <= y) & (boxes[:, 2] > x) & (boxes[:, 3] > y) & triangles.seen
        )
        clip = self._geometry.positions.clip[step][near].astype(np.float64)
        if len(clip) == 0:
            return 0
        if (clip[..., 3] <= 0).any() or (np.abs(clip[..., 2]) > clip[..., 3]).any():
            return None  # cut by the view volume: left to the driver
        points = window_points(clip, view_of(state, target))
        return int(cover(points, (x, y, x + 1, y + 1))[0].sum())

    def _in_scissor(self, state: DrawState) -> bool:
        if not state.on("SCISSOR_TEST"):
            return True
        x, y, width, height = state.values("SCISSOR_BOX")
        return x <= self._x < x + width and y <= self._y < y + height

    def _scissor(self, state: DrawState, one: bool) -> None:
        """Only the pixel, or back to the program's own. What it leaves out itself stays out."""
        batch = CallBatch(self._session.offers)
        if one and self._in_scissor(state):
            batch.call("glEnable", GL.SCISSOR_TEST)
            batch.call("glScissor", self._x, self._y, 1, 1)
        elif not one:
            batch.call("glEnable" if state.on("SCISSOR_TEST") else "glDisable", GL.SCISSOR_TEST)
            batch.call("glScissor", *state.values("SCISSOR_BOX"))
        self._session.run_batch(batch)

    def _count(self, step: int, state: DrawState, reader: TargetReader, operations: tuple[int, int, int]) -> int:
        """Draw without leaving anything but the count in stencil."""
        before = CallBatch(self._session.offers)
        call = before.call
        call("glEnable", GL.STENCIL_TEST)
        call("glStencilMask", 0xFF)
        call("glClearStencil", 0)
        call("glClear", GL.STENCIL_BUFFER_BIT)
        call("glStencilFunc", GL.ALWAYS, 0, 0xFF)
        call("glStencilOp", *operations)
        call("glColorMask", 0, 0, 0, 0)
        call("glDepthMask", 0)
        self._session.run_batch(before)
        self._walk.run_step(step)
        found = int(reader.read_stencil((self._x, self._y, self._x + 1, self._y + 1)).sum())
        after = CallBatch(self._session.offers)
        after.call("glColorMask", *state.values("COLOR_WRITEMASK"))
        after.call("glDepthMask", state.value("DEPTH_WRITEMASK"))
        self._session.run_batch(after)
        return found

    def _passes(self, step: int, state: DrawState, reader: TargetReader) -> int:
        before = CallBatch(self._session.offers)
        call = before.call
        call("glEnable", GL.STENCIL_TEST)
        call("glStencilMask", 0xFF)
        call("glClear", GL.STENCIL_BUFFER_BIT)
        call("glStencilFunc", GL.ALWAYS, 0, 0xFF)
        call("glStencilOp", GL.KEEP, GL.KEEP, GL.INCR)
        no_depth = state.on("DEPTH_TEST") and not reader.own_depth
        if no_depth:
            call("glDisable", GL.DEPTH_TEST)
        self._session.run_batch(before)
        self._walk.again(step)
        after = CallBatch(self._session.offers)
        if no_depth:
            after.call("glEnable", GL.DEPTH_TEST)
        self._session.run_batch(after)
        return int(reader.read_stencil((self._x, self._y, self._x + 1, self._y + 1)).sum())

    def _entry(
        self,
        step: int,
        reader: TargetReader,
        state: DrawState,
        passed: int,
        reached: int,
        stencilled: int,
        discarded: int,
    ) -> StackEntry:
        # of what reached the depth test, what passed is taken off where all counts are known
        entry = StackEntry(step, "", passed, max(reached - stencilled, 0), stencilled, discarded)
        if reader.samples == 1 and reader.layers == 1:
            box = (self._x, self._y, self._x + 1, self._y + 1)
            if reader.has_colour:
                entry.colour = reader.read_shown(box, state)
            if reader.own_depth:
                entry.depth = reader.read_depth(box)
        return entry


def _decide(layers: list[PassLayers], entries: list[StackEntry]) -> None:
    """Fates, from the last step to the first."""
    touches = {touch.step: (item, touch) for item in layers for touch in item.touches}
    covered_by: int | None = None
    for entry in reversed(entries):
        if entry.fate == "scissor":
            continue
        item, touch = touches.get(entry.step, (None, None))
        if touch is None or (entry.passed == 0 and touch.kind != "clear"):
            entry.fate = (
                "discarded"
                if entry.discarded and not (entry.behind or entry.stencilled)
                else "stencil"
                if entry.stencilled and not entry.behind
                else "behind"
            )
            continue
        assert item is not None
        if covered_by is not None:
            entry.fate, entry.by = "covered", covered_by
        elif touch.kind == "clear":
            entry.fate = "cleared"
        elif item.covers(touch):
            entry.fate = "visible"
        elif touch.kind == "depth":
            entry.fate = "depth only"
        else:
            entry.fate = "blended"
        if item.covers(touch) and covered_by is None:
            covered_by = entry.step
    previous: tuple[int, int, int, int] | None = None
    for entry in entries:
        if entry.fate == "blended" and previous is not None and entry.colour == previous:
            entry.fate = "no change"
        previous = entry.colour or previous
