"""Times of the frame, its passes and its steps, by the calibrated clock."""

from __future__ import annotations

import time
from collections.abc import Iterable

import msgspec
import numpy as np
import numpy.typing as npt

from wendascope.backends.doors import CPU, THREAD, WALL, Counter, Floats, Mark, Prepared, Session
from wendascope.backends.edit import Edit, Insertion, enclosing
from wendascope.backends.slots import Slot
from wendascope.measure.clocks import Clock
from wendascope.replay.jobs import remote
from wendascope.task import Task


class SpanTimer:
    """Times spans of a frame: each span is calls [first, end). Spans must not overlap.

    By drain and by CPU time, a clock is read after the pipeline has been drained on both sides of a span; by timer
    query, a TIME_ELAPSED query encloses it.
    """

    def __init__(self, session: Session, spans: list[tuple[int, int]], method: str, edit: Edit | None = None) -> None:
        """With an edit, the edited frame is timed; what it inserts at the first call of a span lies within the span."""
        edit = edit or Edit()
        self._session = session
        self._spans = spans
        self._column = CPU if method == Clock.CPU else WALL
        self._counters = session.counters([Counter.TIME], len(spans)) if method == Clock.QUERY else None
        clock = session.marks(Mark.DRAINED_CLOCK)
        around = self._counters.around if self._counters else [(clock, clock)] * len(spans)
        insertions, self._order = enclosing(spans, around)
        self._prepared: Prepared = session.prepare(Edit([*insertions, *edit.insertions], edit.drop, edit.keep_until))

    def run(self) -> Floats:
        """One run; milliseconds of each span, shape (spans,)."""
        self._session.run(self._prepared)
        if self._counters is not None:
            return np.array(self._counters.read()[Counter.TIME]) / 1e6
        stamps = np.zeros(2 * len(self._spans))
        stamps[self._order] = self._prepared.first_readings(len(self._order), self._column)
        return stamps[1::2] - stamps[0::2]


class FrameTimer:
    """Times the whole frame: the CPU time of submitting it, and until its work is done. Times in milliseconds.

    Without `rasterised`, no fragments are made: submission is all there is to it, and the pictures are not the frame's.
    """

    def __init__(self, session: Session, edit: Edit | None = None, rasterised: bool = True) -> None:
        edit = edit or Edit()
        self._session = session
        off = [] if rasterised else [Mark.FRAGMENTS_OFF]
        first = session.marks(*off, Mark.DRAINED_CLOCK)
        last = session.marks(Mark.CLOCK, Mark.DRAINED_CLOCK)
        around = [Insertion(0, first), Insertion(session.frame.call_count, last)]
        self._prepared = session.prepare(Edit([*around, *edit.insertions], edit.drop))

    def read(self) -> Floats:
        """One run: of submitting all calls, and of the finished work, by three clocks, shape (2, 3)."""
        self._session.run(self._prepared)
        return self._prepared.readings(1, 2) - self._prepared.readings(0)

    def run(self) -> tuple[float, float]:
        """(CPU time of the submitting thread over all calls, time of the wall until the work was done)."""
        submitted, finished = self.read()
        return float(submitted[THREAD]), float(finished[WALL])


def pass_spans(session: Session) -> list[tuple[int, int]]:
    """Calls of each pass: from after the last step of the pass before to its own last step."""
    passes, steps = session.frame.passes, session.frame.steps
    spans, start = [], 0
    for end in passes.end.tolist():
        last = int(steps.call[end - 1]) + 1
        spans.append((start, last))
        start = last
    return spans


def step_spans(session: Session) -> list[tuple[int, int]]:
    """The calls [first, end) of each step with what it sets before it draws."""
    steps = session.frame.steps
    return [(first, last + 1) for first, last in zip(steps.begin.tolist(), steps.call.tolist(), strict=True)]


class FrameTimes(msgspec.Struct):
    """Arrays of shape (repeats,), ms."""

    submit_ms: npt.NDArray[np.float64]
    frame_ms: npt.NDArray[np.float64]


@remote
def frame_times(session: Session, job: Task, repeats: int) -> FrameTimes:
    """Whole-frame times."""
    timer = FrameTimer(session)
    rows = []
    for repeat in range(repeats):
        job.progress("timing the frame", repeat / repeats)
        rows.append(timer.run())
    kept = np.array(rows)
    return FrameTimes(kept[:, 0], kept[:, 1])


@remote
def prefix_ms(session: Session, job: Task, step: int) -> float:
    """Milliseconds of replaying the frame up to a step, until the work is done."""
    prepared = session.prepare(Edit(keep_until=int(session.frame.steps.call[step]) + 1))
    started = time.perf_counter()
    session.run(prepared)
    session.drain()
    return (time.perf_counter() - started) * 1000


_COUNTED = (Counter.SAMPLES, Counter.VERTEX_RUNS, Counter.FRAGMENT_RUNS)
_STEP_COUNTS: Slot[dict[Counter, list[int]]] = Slot("step counts")


def step_counts(session: Session, job: Task) -> dict[Counter, list[int]]:
    """What the driver counts in each step, by those of its counters that there are. Counted once."""

    def count() -> dict[Counter, list[int]]:
        job.progress("counting fragments", 0.0)
        return span_counts(session, step_spans(session), _COUNTED)

    return session.slots.get(_STEP_COUNTS, count)


@remote
def fragments(session: Session, job: Task) -> list[int] | None:
    """Fragments of each step that passed all tests, by the driver's counter; None where the frame uses its own."""
    return step_counts(session, job).get(Counter.SAMPLES)


def span_fragments(
    session: Session, job: Task, spans: list[tuple[int, int]], edit: Edit | None = None
) -> list[int] | None:
    """The same for spans of calls, each [first, end), of the edited frame."""
    job.progress("counting fragments", 0.0)
    return span_counts(session, spans, [Counter.SAMPLES], edit).get(Counter.SAMPLES)


def span_counts(
    session: Session, spans: list[tuple[int, int]], counters: Iterable[Counter], edit: Edit | None = None
) -> dict[Counter, list[int]]:
    """What counters of the driver count in each span of calls, [first, end), of the edited frame, in one run.

    Without those that the driver does not have (OpenGL ES has hardly any); none where the frame has counters of its
    own.
    """
    edit = edit or Edit()
    wanted = [counter for counter in counters if session.can_count(counter)]
    if not wanted:
        return {}
    counted = session.counters(wanted, len(spans))
    insertions, _ = enclosing(spans, counted.around)
    session.run(session.prepare(Edit([*insertions, *edit.insertions], edit.drop)))
    return counted.read()
