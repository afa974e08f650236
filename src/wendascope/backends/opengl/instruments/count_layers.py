"""Counts the fragments of every step at every pixel, with the program's own shaders, by the stencil buffer.

Stencil counts up where a fragment passes (or fails the depth test, or reaches it at all); it is read back after every
step, within the box that the step's positions allow. A step that uses the stencil test itself runs twice: once with
the pixels that its test lets through marked beforehand, counting, after which depth and stencil are put back; then as
it is.
"""

from __future__ import annotations

import dataclasses
from collections.abc import Callable

import numpy as np
import numpy.typing as npt

from wendascope.backends.doors import Box, Counting, What
from wendascope.backends.opengl.calls.enclosed import within_feedback
from wendascope.backends.opengl.calls.packed import CallBatch
from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.backends.opengl.instruments.clears import written_rectangle
from wendascope.backends.opengl.instruments.stencil_mask import StencilCopy, StencilMask
from wendascope.backends.opengl.instruments.target_reader import TargetReader
from wendascope.backends.opengl.objects.compiled import compiled_program
from wendascope.backends.opengl.rebuild.executor import PackedBatch
from wendascope.backends.opengl.running.draw_state import DrawState, StateReader, may_change_stencil
from wendascope.backends.opengl.running.session import ReplaySession
from wendascope.backends.opengl.running.walk import Walk
from wendascope.errors import ReplayError
from wendascope.frame.layers import Kind, PassLayers, Touch, extent
from wendascope.frame.passes import Target
from wendascope.frame.steps import KINDS
from wendascope.glsl.words import fragment_habits
from wendascope.registry import GL
from wendascope.task import Task

_OPERATIONS: dict[What, tuple[int, int, int]] = {
    "passed": (GL.KEEP, GL.KEEP, GL.INCR_WRAP),
    "failed depth": (GL.KEEP, GL.INCR_WRAP, GL.KEEP),
    "reached": (GL.KEEP, GL.INCR_WRAP, GL.INCR_WRAP),
    "tied": (GL.KEEP, GL.KEEP, GL.INCR_WRAP),
}
_DRAW, _CLEAR = KINDS.index("draw"), KINDS.index("clear")
_MOST_TOGETHER = 256
"""Steps that are counted by one reading."""
_MANY, _MOST_WALKS = 2000, 4
"""A pass of so many steps may be counted in several walks, of so many at most."""
_READING_S, _WALKED_STEP_S = 250e-6, 40e-6
"""About what one reading takes, and one step in a walk; by which it is decided how many walks to go."""
_OWN = -1
_MARKED = 255
"""Stencil value of pixels that a step's own test keeps out."""


def count_layers(session: ReplaySession, job: Task, counting: Counting[DrawState]) -> list[PassLayers]:
    """Go through the frame and count, more than once where that takes less time in all. `session` must be
    instrumented. Raises CancelledError.
    """
    first, *later = _walks(session.frame, counting)
    found = _Counter(session, job, first).run()
    by_pass = {item.index: item for item in found}
    for walk in later:
        for item in _Counter(session, job, walk).run():
            whole = by_pass[item.index]
            whole.touches += [touch for touch in item.touches if touch.kind != "clear"]
            whole.touches.sort(key=lambda touch: touch.step)
            whole.caveats += [caveat for caveat in item.caveats if caveat not in whole.caveats]
    return found


def _walks(frame: OpenGLFrame, counting: Counting[DrawState]) -> list[Counting[DrawState]]:
    """What to count in each walk: several where that needs so many readings fewer that they are worth it. Steps that
    overlap cannot share a reading: neighbours of a row of tiles can, every other one at a time.
    """
    chosen = np.array(
        [s for s in counting.states if counting.boxes.get(s) and (counting.steps is None or s in counting.steps)], int
    )
    of_pass = np.asarray(frame.passes.of_step)
    sizes = np.bincount(of_pass[chosen], minlength=len(frame.passes)) if len(chosen) else np.zeros(0, int)
    large = [i for i in np.flatnonzero(sizes > _MANY).tolist() if counting.passes is None or i in counting.passes]
    steps = chosen[np.isin(of_pass[chosen], large)]
    if not len(steps):
        return [counting]
    first_of_them = steps[:_MANY].tolist()

    def seconds(walks: int) -> float:
        readings = _dealt(first_of_them, counting, walks)[1] * len(steps) / len(first_of_them)
        return readings * _READING_S + walks * len(counting.states) * _WALKED_STEP_S

    walks = min(range(1, _MOST_WALKS + 1), key=seconds)
    if walks == 1:
        return [counting]
    walk_of, _ = _dealt(steps.tolist(), counting, walks)
    later = [frozenset(steps[walk_of == number].tolist()) for number in range(1, walks)]
    others = set(counting.states) if counting.steps is None else set(counting.steps)
    first = frozenset(others.difference(*later))
    return [
        dataclasses.replace(counting, steps=first),
        *(dataclasses.replace(counting, passes=frozenset(large), steps=rest) for rest in later),
    ]


def _dealt(steps: list[int], counting: Counting[DrawState], walks: int) -> tuple[npt.NDArray[np.int64], int]:
    """(walk of each step, readings in all), when steps are dealt to walks so that few readings are needed."""
    walk_of = np.zeros(len(steps), np.int64)
    boxes = np.zeros((walks, _MOST_TOGETHER, 4), np.int64)
    states: list[DrawState | None] = [None] * walks
    sizes, readings = [0] * walks, 0
    for row, step in enumerate(steps):
        box, state = counting.boxes[step] or (0, 0, 0, 0), counting.states[step]
        for number in range(walks):
            fits = states[number] in (None, state) and sizes[number] < _MOST_TOGETHER
            if fits and not _overlaps(boxes[number, : sizes[number]], box):
                break
        else:
            number = sizes.index(max(sizes))
            sizes[number] = 0
        readings += not sizes[number]
        boxes[number, sizes[number]] = box
        sizes[number] += 1
        states[number] = state
        walk_of[row] = number
    return walk_of, readings


def _overlaps(boxes: npt.NDArray[np.int64], box: Box | None) -> bool:
    """Whether a box shares a pixel with one of others."""
    if box is None or not len(boxes):
        return False
    x0, y0, x1, y1 = box
    return bool(((boxes[:, 0] < x1) & (x0 < boxes[:, 2]) & (boxes[:, 1] < y1) & (y0 < boxes[:, 3])).any())


class _Counter:
    def __init__(self, session: ReplaySession, job: Task, counting: Counting[DrawState]) -> None:
        self._session, self._job, self._counting = session, job, counting
        self._frame: OpenGLFrame = session.frame
        self._state_reader = StateReader(session)
        self._count_batch = self._stencil(GL.ALWAYS, 0, _OPERATIONS[counting.what])
        # marked pixels stay out: 255 is not greater than 255, and counting stops at 254
        fail, depth_fail, passes = (GL.INCR if op == GL.INCR_WRAP else op for op in _OPERATIONS[counting.what])
        self._masked_batch = self._stencil(GL.GREATER, _MARKED, (fail, depth_fail, passes))
        # a stencil buffer that the program tests must come out of a count as it went in
        self._protects = any(state.on("STENCIL_TEST") for state in counting.states.values())
        self._once = runs_once(self._frame)
        changes = np.concatenate([[0], np.cumsum(may_change_stencil(self._frame.calls))])
        self._changes = changes[self._frame.steps.begin]
        """How many calls that may change the stencil lie before each step: between steps of one number lies none."""
        self._walk = Walk(session)
        self._packed: dict[tuple[object, ...], PackedBatch] = {}
        self._counts_since = _OWN
        """In which run of `_changes` our stencil state was set; `_OWN` where the program's is."""

    def run(self) -> list[PassLayers]:
        passes, steps = self._frame.passes, self._frame.steps
        found = []
        wanted = range(len(passes)) if self._counting.passes is None else sorted(self._counting.passes)
        for index in wanted:
            first, end = int(passes.first[index]), int(passes.end[index])
            self._job.progress("counting layers", first / max(len(steps), 1))
            self._walk.run_to(int(steps.begin[first]))
            found.append(self._pass(index, range(first, end)))
        return found

    def _pass(self, index: int, steps: range) -> PassLayers:
        """Count one pass; one that cannot be counted says why and runs as it is."""
        target = self._frame.passes.targets[index]
        reader = TargetReader(self._session, target, self._state_reader.read())
        try:
            return self._counted(index, steps, target, reader)
        except ReplayError as error:
            self._walk.run_step(steps[-1])
            return PassLayers(
                index,
                target.width,
                target.height,
                caveats=[f"{self._frame.passes.names[index]} is not counted: {error}"],
                counted=False,
            )
        finally:
            reader.close()
            self._set_own_stencil(steps[-1])

    def _counted(self, index: int, steps: range, target: Target, reader: TargetReader) -> PassLayers:
        states = self._counting.states
        drawn = [states[s] for s in steps if s in states]
        colour = reader.has_colour and any(s.writes_colour for s in drawn) if drawn else reader.has_colour
        result = PassLayers(index, target.width, target.height, reader.samples, reader.layers, colour)
        if target.width == 0 or target.height == 0:
            result.caveats.append("the size of the target is not known")
            self._walk.run_step(steps[-1])
            return result
        previous: npt.NDArray[np.uint8] | None = None
        number = 0
        while number < len(steps):
            step = steps[number]
            self._job.progress("counting layers", step / len(self._frame.steps))
            kind = int(self._frame.steps.kind[step])
            number += 1
            if kind != _DRAW:
                self._set_own_stencil(step)
                self._walk.run_step(step)
                previous = None
                rectangle = written_rectangle(self._frame, step, result.colour)
                if rectangle is not None and self._counting.what != "tied":
                    result.touches.append(_filled(result, step, rectangle))
                continue
            state = states[step]
            reader.at(state)
            if self._passed_over(step):
                self._set_own_stencil(step)
                self._walk.run_step(step)
                previous = None if state.on("STENCIL_TEST") else previous
                continue
            box = self._counting.boxes.get(step) or (0, 0, target.width, target.height)
            if state.on("STENCIL_TEST") and reader.own_stencil and self._counting.what != "reached":
                touch, caveat = self._stencilled(step, state, reader, box)
                previous = None
                if caveat and caveat not in result.caveats:
                    result.caveats.append(caveat)
            else:
                if previous is None:
                    self._walk.run_to(int(self._frame.steps.begin[step]))
                    reader.attach_stencil()
                    previous = reader.read_stencil((0, 0, target.width, target.height)).copy()
                together = self._apart(steps[number - 1 :], reader)
                if len(together) > 1:
                    result.touches += self._several(together, state, reader, previous)
                    number += together[-1] - together[0]
                    continue
                touch = self._plain(step, state, reader, box, previous)
            if touch is not None:
                result.touches.append(touch)
        return result

    def _passed_over(self, step: int) -> bool:
        """Whether a draw is not counted: nobody asked, or no fragment can come of it."""
        counting = self._counting
        return (
            (counting.steps is not None and step not in counting.steps)
            or (step in counting.boxes and counting.boxes[step] is None)
            or counting.states[step].on("RASTERIZER_DISCARD")
        )

    # ---- several steps ---------------------------------------------------------------------------------

    def _apart(self, steps: range, reader: TargetReader) -> list[int]:
        """The first of some steps and those that follow it, as long as they share their state and nothing that they
        draw can overlap: they are counted by one reading. One step where it goes by itself.
        """
        counting, first = self._counting, steps[0]
        state, compared = counting.states[first], self._compares_colours(counting.states[first], reader)
        alone = self._protects or reader.layers > 1 or reader.samples > 1 or self._switched_off(state, reader)
        if alone or counting.boxes.get(first) is None:
            return [first]
        boxes = np.zeros((_MOST_TOGETHER, 4), np.int64)
        found: list[int] = []
        for step in steps:
            if int(self._frame.steps.kind[step]) != _DRAW or len(found) == _MOST_TOGETHER:
                break
            box = counting.boxes.get(step)
            if self._passed_over(step):
                # what is drawn in between may change colours, and a stencil buffer, but not our count
                if counting.states[step].on("STENCIL_TEST") or (compared and (step not in counting.boxes or box)):
                    break
                continue
            if counting.states[step] is not state or box is None or _overlaps(boxes[: len(found)], box):
                break
            boxes[len(found)] = box
            if compared and _sparse(boxes[: len(found) + 1]):
                break
            found.append(step)
        return found

    def _several(
        self,
        steps: list[int],
        state: DrawState,
        reader: TargetReader,
        previous: npt.NDArray[np.uint8],
    ) -> list[Touch]:
        """Steps that lie apart (see `_apart`), counted by one reading."""
        boxes = [box for box in map(self._counting.boxes.get, steps) if box is not None]
        edges = np.array(boxes)
        x0, y0 = edges[:, :2].min(axis=0).tolist()
        whole = (x0, y0, *edges[:, 2:].max(axis=0).tolist())
        compared, counted = self._compares_colours(state, reader), set(steps)
        if compared:
            self._walk.run_to(int(self._frame.steps.begin[steps[0]]))
        before = reader.read_colours(whole, state) if compared else None
        for step in range(steps[0], steps[-1] + 1):
            if step not in counted:
                self._set_own_stencil(step)
            elif self._counting.what == "tied":
                self._run_tied(step, state, reader)
                self._walk.again(step)
            else:
                self._count(step)
        self._walk.run_step(steps[-1])
        now = reader.read_stencil(whole)
        area = reader.area(whole)
        counts = now - previous[area]
        previous[area] = now
        changed = None
        if before is not None:
            changed = _differs(before, reader.read_colours(whole, state), counts.shape)
        touches = []
        for step, box in zip(steps, boxes, strict=True):
            own = slice(box[1] - y0, box[3] - y0), slice(box[0] - x0, box[2] - x0)
            changed_there = None if changed is None else changed[own]
            touches.append(self._touch(step, state, reader, box, counts[own], changed_there))
        return [touch for touch in touches if touch is not None]

    # ---- one step --------------------------------------------------------------------------------------

    def _plain(
        self,
        step: int,
        state: DrawState,
        reader: TargetReader,
        box: Box,
        previous: npt.NDArray[np.uint8],
    ) -> Touch | None:
        tied = self._counting.what == "tied"
        kept = StencilCopy(self._session, reader, state) if self._protects and reader.own_stencil else None
        off = [] if tied else self._switched_off(state, reader)
        compared = self._compares_colours(state, reader)
        if kept or off or compared:
            self._walk.run_to(int(self._frame.steps.begin[step]))
        before = reader.read_colours(box, state) if compared else None
        if kept:
            kept.save()
        if tied:
            self._run_tied(step, state, reader)
        else:
            self._count(step)
            self._switch(off, False)
            self._walk.run_step(step)
            self._switch(off, True)
        area = reader.area(box)
        now = reader.read_stencil(box)
        counts = now - previous[area]
        if kept:
            kept.restore(depth=False)
        else:
            previous[area] = now
        if tied:
            self._walk.again(step)
        changed = None
        if before is not None and counts.any():
            changed = _differs(before, reader.read_colours(box, state), counts.shape)
        return self._touch(step, state, reader, box, counts, changed)

    def _count(self, step: int) -> None:
        """Go to a step, and let the stencil count from there on."""
        if self._counts_since != self._changes[step]:
            self._walk.run_to(int(self._frame.steps.begin[step]))
            self._run_packed(("count",), lambda: self._count_batch)
            self._counts_since = int(self._changes[step])

    def _run_packed(self, key: tuple[object, ...], batch: Callable[[], CallBatch]) -> None:
        """Run a batch that is made when its key is first asked for."""
        if key not in self._packed:
            self._packed[key] = self._session.packed(batch())
        self._packed[key].run()

    def _run_tied(self, step: int, state: DrawState, reader: TargetReader) -> None:
        """Run a step so that the stencil counts what has the depth that is there, and nothing else changes. Whoever
        calls it runs the step again, as it is.
        """
        self._walk.run_to(int(self._frame.steps.begin[step]))
        key = state, reader.samples > 1, reader.own_depth
        self._run_packed(("tied", *key), lambda: self._begin_tied(state, reader))
        self._walk.run_step(step)
        self._run_packed(("as it is", *key), lambda: self._end_tied(state, reader))
        self._counts_since = _OWN

    def _begin_tied(self, state: DrawState, reader: TargetReader) -> CallBatch:
        batch = CallBatch(self._session.offers)
        batch.append(self._count_batch)
        for name in self._switched_off(state, reader):
            batch.call("glDisable", getattr(GL, name))
        batch.call("glDepthFunc", GL.EQUAL)
        batch.call("glDepthMask", 0)
        self._keep_colour(batch, reader)
        return batch

    def _end_tied(self, state: DrawState, reader: TargetReader) -> CallBatch:
        batch = CallBatch(self._session.offers)
        self._put_back_colour(batch, state, reader)
        batch.call("glDepthFunc", state.value("DEPTH_FUNC"))
        batch.call("glDepthMask", state.value("DEPTH_WRITEMASK"))
        for name in self._switched_off(state, reader):
            batch.call("glEnable", getattr(GL, name))
        batch.append(stencil_state(state, self._session))
        return batch

    def _switched_off(self, state: DrawState, reader: TargetReader) -> list[str]:
        """What is off while a step is counted: no depth to test against, where the stencil may have brought one; and
        for all that is rasterised, no alpha either.
        """
        off = ["DEPTH_TEST"] if state.on("DEPTH_TEST") and not reader.own_depth else []
        if self._counting.what == "reached":
            off += [name for name in ("ALPHA_TEST", "SAMPLE_ALPHA_TO_COVERAGE") if state.on(name)]
        return off

    def _stencilled(self, step: int, state: DrawState, reader: TargetReader, box: Box) -> tuple[Touch | None, str]:
        """A step that the program's own stencil test decides about."""
        mask = StencilMask(self._session, reader, state)
        refused = mask.refused or (
            "steps that use the stencil test and write to images or buffers are not counted" if self._once[step] else ""
        )
        if refused:
            self._set_own_stencil(step)
            self._walk.run_step(step)
            return None, refused
        self._walk.run_to(int(self._frame.steps.begin[step]))
        before = reader.read_colours(box, state) if self._compares_colours(state, reader) else None
        mask.save()
        mask.mark()
        counting = CallBatch(self._session.offers)
        counting.append(self._masked_batch)
        self._keep_colour(counting, reader)
        self._session.run_batch(counting)
        self._counts_since = int(self._changes[step])
        self._walk.run_step(step)
        now = reader.read_stencil(box)
        counts = np.where(now == _MARKED, 0, now).astype(np.uint8)
        mask.restore()
        self._set_own_stencil(step)
        as_before = CallBatch(self._session.offers)
        self._put_back_colour(as_before, state, reader)
        self._session.run_batch(as_before)
        self._walk.again(step)
        caveat = ""
        if mask.changes_itself:
            # its test depends on what it writes: one fragment a pixel is what such tests are for
            counts = np.minimum(counts, 1)
            caveat = "steps whose stencil test depends on their own stencil writes are counted once a pixel"
        changed = None
        if before is not None and counts.any():
            changed = _differs(before, reader.read_colours(box, state), counts.shape)
        return self._touch(step, state, reader, box, counts, changed), caveat

    def _touch(
        self,
        step: int,
        state: DrawState,
        reader: TargetReader,
        box: Box,
        counts: npt.NDArray[np.uint8],
        changed: npt.NDArray[np.bool_] | None,
    ) -> Touch | None:
        tight = extent(counts > 0)
        if tight is None:
            return None
        kind: Kind = (
            "depth" if not (state.writes_colour and reader.has_colour) else "opaque" if state.opaque else "blended"
        )
        rows, columns = reader.area(box)
        if changed is not None:
            changed = changed[tight].copy()
        at = int(columns.start + tight[1].start), int(rows.start + tight[0].start)
        return Touch(step, kind, *at, counts[tight].copy(), changed)

    # ---- state and reading --------------------------------------------------------------------------------

    def _compares_colours(self, state: DrawState, reader: TargetReader) -> bool:
        """Whether the colour before and after a blended step is compared."""
        return (
            self._counting.what == "passed"
            and not state.opaque
            and state.writes_colour
            and reader.has_colour
            and reader.samples == 1
            and reader.layers == 1
        )

    def _switch(self, capabilities: list[str], on: bool) -> None:
        batch = CallBatch(self._session.offers)
        for name in capabilities:
            batch.call("glEnable" if on else "glDisable", getattr(GL, name))
        if capabilities:
            self._session.run_batch(batch)

    def _stencil(self, func: int, ref: int, operations: tuple[int, int, int]) -> CallBatch:
        batch = CallBatch(self._session.offers)
        batch.call("glEnable", GL.STENCIL_TEST)
        batch.call("glStencilFunc", func, ref, 0xFF)
        batch.call("glStencilOp", *operations)
        batch.call("glStencilMask", 0xFF)
        return batch

    def _set_own_stencil(self, step: int) -> None:
        """The program's stencil state as this step, which is next or ran last, is to find it, or found it."""
        state = self._counting.states.get(step)
        if state is None or self._counts_since == _OWN:
            return
        self._counts_since = _OWN
        self._walk.run_to(int(self._frame.steps.begin[step]))
        self._run_packed(("stencil", state), lambda: stencil_state(state, self._session))

    def _keep_colour(self, batch: CallBatch, reader: TargetReader) -> None:
        """From here on draws leave colour alone. llvmpipe does not count samples without colour writes: blending
        does it there.
        """
        if reader.samples > 1:
            batch.call("glEnable", GL.BLEND)
            batch.call("glBlendEquation", GL.FUNC_ADD)
            batch.call("glBlendFunc", GL.ZERO, GL.ONE)
        else:
            batch.call("glColorMask", 0, 0, 0, 0)

    def _put_back_colour(self, batch: CallBatch, state: DrawState, reader: TargetReader) -> None:
        if reader.samples > 1:
            batch.call("glEnable" if state.blends else "glDisable", GL.BLEND)
            batch.call(
                "glBlendEquationSeparate", state.value("BLEND_EQUATION_RGB"), state.value("BLEND_EQUATION_ALPHA")
            )
            batch.call(
                "glBlendFuncSeparate",
                *(state.value(f"BLEND_{name}") for name in ("SRC_RGB", "DST_RGB", "SRC_ALPHA", "DST_ALPHA")),
            )
        else:
            batch.call("glColorMask", *state.values("COLOR_WRITEMASK"))


def _sparse(boxes: npt.NDArray[np.int64]) -> bool:
    """Whether what holds some boxes is much larger than they are together."""
    low, high = boxes[:, :2].min(axis=0), boxes[:, 2:].max(axis=0)
    together = (boxes[:, 2] - boxes[:, 0]) * (boxes[:, 3] - boxes[:, 1])
    return int(np.prod(high - low)) > 4 * int(together.sum()) + (1 << 14)


def _differs(before: list[bytes], after: list[bytes], shape: tuple[int, ...]) -> npt.NDArray[np.bool_]:
    """Pixels that differ in some colour buffer, of that shape."""
    changed = np.zeros(shape, bool)
    for a, b in zip(before, after, strict=True):
        both = [np.frombuffer(data, np.uint8).reshape(*shape, -1) for data in (a, b)]
        changed |= (both[0] != both[1]).any(axis=2)
    return changed


def runs_once(frame: OpenGLFrame) -> npt.NDArray[np.bool_]:
    """Steps that must not run twice, shape (steps,): their shaders write to images or buffers, or their vertices
    are fed back.
    """
    programs = [compiled_program(p, frame.context.dialect) for p in frame.objects.programs]
    writing = [p.name for p in programs if any(fragment_habits(s.source).side_effects for s in p.shaders)]
    return np.asarray(np.isin(frame.steps.program, writing) | within_feedback(frame))


def stencil_state(state: DrawState, session: ReplaySession) -> CallBatch:
    """Calls that set the stencil state of a step."""
    batch = CallBatch(session.offers)
    batch.call("glEnable" if state.on("STENCIL_TEST") else "glDisable", GL.STENCIL_TEST)
    for face, back in ((GL.FRONT, False), (GL.BACK, True)):
        found = state.stencil(back)
        batch.call("glStencilFuncSeparate", face, found.func, found.ref, found.value_mask & 0xFFFFFFFF)
        batch.call("glStencilOpSeparate", face, found.fail, found.depth_fail, found.passes)
        batch.call("glStencilMaskSeparate", face, found.write_mask & 0xFFFFFFFF)
    return batch


def _filled(item: PassLayers, step: int, rectangle: Box) -> Touch:
    x0, y0, x1, y1 = (max(0, v) for v in rectangle)
    x1, y1 = min(x1, item.width), min(y1, item.height)
    width = max(x1 - x0, 0) * item.samples
    if item.layers > 1:  # a clear fills all layers alike; the box is kept for the whole stack when it is whole
        return Touch(step, "clear", 0, 0, np.ones(item.shape, np.uint8))
    return Touch(step, "clear", x0 * item.samples, y0, np.ones((max(y1 - y0, 0), width), np.uint8))
