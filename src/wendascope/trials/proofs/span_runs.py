"""A span of the frame run again and again, as it is and edited, measured by all clocks at once."""

from __future__ import annotations

import functools
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from wendascope.backends.contents import Contents
from wendascope.backends.doors import (
    CPU,
    THREAD,
    WALL,
    Counter,
    Counters,
    Mark,
    Prepared,
    Session,
    SpanStart,
    Writes,
)
from wendascope.backends.edit import Edit, Insertion
from wendascope.backends.slots import Slot
from wendascope.measure.clocks import Clock
from wendascope.measure.times import FrameTimer
from wendascope.trials.proofs.outcomes import outcomes

_MOST_KEPT_BYTES = 512 << 20
_SCALE_RUNS = 5


@dataclass(frozen=True)
class SpanTime:
    """One run. `work_ms` is by the clock that verdicts go by; `submit_ms` the CPU time of the submitting thread."""

    work_ms: float
    submit_ms: float


class SpanRuns:
    """Calls [start.call, end) of an edited frame, from the state and contents before them."""

    def __init__(self, session: Session, start: SpanStart, end: int, clock: str, edit: Edit | None = None) -> None:
        edit = edit or Edit()
        self._session, self._start = session, start
        self._counters = session.counters([Counter.TIME], 1) if clock == Clock.QUERY else None
        self._column = CPU if clock == Clock.CPU else WALL
        clocks = (
            Insertion(start.call, session.marks(Mark.DRAINED_CLOCK)),
            Insertion(end, session.marks(Mark.CLOCK, Mark.DRAINED_CLOCK)),
        )
        around = _within(clocks, self._counters)
        self._last = len(around) - 1
        self._approach = start.approach(edit)
        self._prepared = session.prepare(Edit([*around, *edit.insertions], edit.drop))
        self._edit, self._end_call = edit, end
        self._written = session.writes(start.call, end)
        self._first, self._end = self._prepared.clocks()

    @property
    def written(self) -> Writes:
        """What the span writes."""
        return self._written

    def run(self, only: Writes | None = None) -> SpanTime:
        """`only` names what was written since the last time, where that is known. Raises ReplayError."""
        self._start.enter(self._approach, only)
        self._session.run_part(self._prepared, self._first, self._end)
        self._undo(self._prepared, self._end)
        submitted, finished = self._prepared.readings(self._last, 2) - self._prepared.readings(0)
        counters = self._counters
        work = float(finished[self._column]) if counters is None else counters.read()[Counter.TIME][0] / 1e6
        return SpanTime(work, float(submitted[THREAD]))

    def _undo(self, prepared: Prepared, end: int) -> None:
        """Put back what the edit changed of the frame's objects: what runs next is the original, or another edit."""
        undone = prepared.place(self._session.frame.call_count)
        self._session.run_part(prepared, max(end, undone), len(prepared))

    def contents(self) -> Contents:
        """What everything that the span writes holds after it."""
        self.run()
        return self._session.contents(self._written)

    def fragments(self) -> int | None:
        """Fragments that pass all tests in the span; None where they cannot be counted."""
        session = self._session
        if not session.can_count(Counter.SAMPLES):
            return None
        counters = session.counters([Counter.SAMPLES], 1)
        clock = session.marks(Mark.CLOCK)
        around = _within((Insertion(self._start.call, clock), Insertion(self._end_call, clock)), counters)
        counted = session.prepare(Edit([*around, *self._edit.insertions], self._edit.drop))
        begun, ended = counted.clocks()
        self._start.enter(self._approach)
        session.run_part(counted, begun, ended)
        self._undo(counted, ended)
        session.drain()
        return counters.read()[Counter.SAMPLES][0]


def _within(clocks: tuple[Insertion, Insertion], counters: Counters | None) -> list[Insertion]:
    """The clocks of a span, and within them what begins and ends its counters."""
    if counters is None:
        return list(clocks)
    (begin, end), (first, last) = counters.around[0], clocks
    return [first, Insertion(first.before, begin), Insertion(last.before, end), last]


class SpanPairs:
    """Spans of the frame as it is and edited, each with its like. Measured span by span: the shorter a pair, the less
    the machine changes within it.
    """

    def __init__(self, pairs: Sequence[tuple[SpanRuns, SpanRuns]]) -> None:
        self._pairs = pairs
        self._written: Writes | None = None
        """By all of them, once all ran."""

    def run(self, order: tuple[int, int]) -> tuple[float, float]:
        """One pair of each; original less edited, of the work and of the submission. Raises ReplayError."""
        work, submission = 0.0, 0.0
        for pair in self._pairs:
            taken = {which: pair[which].run(self._written) for which in order}
            work += taken[0].work_ms - taken[1].work_ms
            submission += taken[0].submit_ms - taken[1].submit_ms
        self._written = functools.reduce(lambda a, b: a.joined(b), [original.written for original, _ in self._pairs])
        return work, submission

    def fragments(self) -> tuple[int, int] | None:
        """Of original and edited; None where they cannot be counted."""
        counted = [[run.fragments() for run in pair] for pair in self._pairs]
        if any(count is None for pair in counted for count in pair):
            return None
        before, after = (sum(pair[which] or 0 for pair in counted) for which in (0, 1))
        return before, after


class Spans:
    """Where runs of a session's frame can begin: made when asked for, the oldest given back when they are many.

    The first of each pass is tried: from there on the frame must come out as it does as a whole.
    """

    def __init__(self, session: Session) -> None:
        self._session = session
        self._starts: dict[int, SpanStart] = {}
        self._tried: set[int] = set()
        """Passes in which a start was tried."""

    def start(self, call: int) -> SpanStart:
        """A start at a call."""
        if call not in self._starts:
            start = self._session.span_start(call)
            steps, passes = self._session.frame.steps, self._session.frame.passes
            step = min(int(np.searchsorted(steps.call, call)), len(steps) - 1)
            index = int(passes.of_step[step]) if len(steps) else 0
            if start.kept and index not in self._tried and not self._comes_out(start):
                start.close()
            else:
                self._tried.add(index)
            self._starts[call] = start
            while sum(s.bytes for s in self._starts.values()) > _MOST_KEPT_BYTES and len(self._starts) > 1:
                self._starts.pop(next(iter(self._starts))).close()
        return self._starts[call]

    def room(self, count: int) -> bool:
        """Whether so many starts can be kept at the same time."""
        return count * 4 * self._session.written_texels() <= _MOST_KEPT_BYTES

    def _comes_out(self, start: SpanStart) -> bool:
        session = self._session
        start.enter(start.approach(Edit()))
        whole = session.prepare()
        session.run_part(whole, whole.place(start.call), len(whole))
        return outcomes(session).came_out()


@dataclass(frozen=True)
class FrameScale:
    """The original frame by all clocks, in ms, one entry a run; see `SpanTime`."""

    wall: npt.NDArray[np.float64]
    work: npt.NDArray[np.float64]
    submit: npt.NDArray[np.float64]

    @property
    def wall_ms(self) -> float:
        return float(np.median(self.wall))

    @property
    def shown(self) -> float:
        """Milliseconds shown for one of the work clock: what is saved is told as a part of the frame's time."""
        work = float(np.median(self.work))
        return self.wall_ms / work if work > 0 else 1.0


SPANS: Slot[Spans] = Slot("spans")
_SCALE: Slot[FrameScale] = Slot("frame scale")


def frame_scale(session: Session, clock: str) -> FrameScale:
    """Measured once a session."""

    def measure() -> FrameScale:
        timer = FrameTimer(session)
        timer.read()
        rows = np.array([timer.read() for _ in range(_SCALE_RUNS)])
        return FrameScale(rows[:, 1, WALL], rows[:, 1, CPU if clock == Clock.CPU else WALL], rows[:, 0, THREAD])

    return session.slots.get(_SCALE, measure)
