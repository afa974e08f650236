"""What every step does at one pixel."""

from __future__ import annotations

from wendascope.backends.doors import Probed, Probing
from wendascope.backends.opengl.calls.packed import CallBatch
from wendascope.backends.opengl.instruments.clears import written_rectangle
from wendascope.backends.opengl.instruments.count_layers import runs_once, stencil_state
from wendascope.backends.opengl.instruments.stencil_mask import StencilMask
from wendascope.backends.opengl.instruments.target_reader import TargetReader
from wendascope.backends.opengl.running.draw_state import DrawState, StateReader
from wendascope.backends.opengl.running.session import ReplaySession
from wendascope.backends.opengl.running.walk import Walk
from wendascope.registry import GL


class PixelProbe:
    """Goes through the frame once; in the passes asked for, only the one pixel is drawn."""

    def __init__(self, session: ReplaySession, asked: Probing[DrawState]) -> None:
        self._session, self._asked, self._x, self._y = session, asked, asked.x, asked.y
        self._reader_of_state = StateReader(session)
        self._once = runs_once(session.frame)
        self._walk = Walk(session)

    def run(self) -> list[Probed]:
        frame, rows = self._session.frame, []
        for index in self._asked.passes:
            first, end = int(frame.passes.first[index]), int(frame.passes.end[index])
            self._walk.run_to(int(frame.steps.begin[first]))
            reader = TargetReader(self._session, frame.passes.targets[index], self._reader_of_state.read())
            for step in range(first, end):
                self._walk.run_to(int(frame.steps.begin[step]))
                state = self._asked.states[step]
                reader.at(state)
                entry = (
                    self._draw(step, state, reader)
                    if frame.steps.kind_name(step) == "draw"
                    else self._other(step, state, reader)
                )
                if entry is not None:
                    rows.append(entry)
            reader.close()
        return rows

    def _other(self, step: int, state: DrawState, reader: TargetReader) -> Probed | None:
        self._session.run_batch(stencil_state(state, self._session))
        self._walk.run_step(step)
        filled = written_rectangle(self._session.frame, step, reader.has_colour)
        if filled is None or not (filled[0] <= self._x < filled[2] and filled[1] <= self._y < filled[3]):
            return None
        return self._entry(step, reader, state, 1, 0, 0, 0)

    def _draw(self, step: int, state: DrawState, reader: TargetReader) -> Probed | None:
        x, y = self._x, self._y
        box = self._asked.boxes.get(step, (0, 0, *reader.size))
        if box is None or not (box[0] <= x < box[2] and box[1] <= y < box[3]) or state.on("RASTERIZER_DISCARD"):
            self._plain(step, state)
            return None
        covered = self._asked.covered(step) if reader.samples == 1 else None
        if not self._in_scissor(state):
            self._plain(step, state)
            return Probed(step, cut_off=True) if covered else None
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

    def _only_once(self, step: int, state: DrawState, reader: TargetReader) -> Probed | None:
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
    ) -> Probed:
        entry = Probed(step, False, passed, reached, stencilled, discarded)
        if reader.samples == 1 and reader.layers == 1:
            box = (self._x, self._y, self._x + 1, self._y + 1)
            if reader.has_colour:
                entry.colour = reader.read_shown(box, state)
            if reader.own_depth:
                entry.depth = reader.read_depth(box)
        return entry
