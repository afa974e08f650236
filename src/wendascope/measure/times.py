"""Times of the frame, its passes and its steps, by the calibrated clock."""

from __future__ import annotations

import time
from collections.abc import Iterable

import msgspec
import numpy as np
import numpy.typing as npt

from wendascope.backends.opengl.calls.packed import CallBatch
from wendascope.backends.opengl.running.edit import Edit, Insertion
from wendascope.backends.opengl.running.session import Prepared, ReplaySession
from wendascope.backends.slots import Slot
from wendascope.measure.clocks import CPU, READING_BYTES, THREAD, WALL, Clock, Floats, read_clocks, readings
from wendascope.registry import GL
from wendascope.replay.jobs import remote
from wendascope.replay.progress import Job


def enclosing(
    spans: list[tuple[int, int]], batches: list[tuple[CallBatch, CallBatch]]
) -> tuple[list[Insertion], list[int]]:
    """Insertions that put a batch before and after each span, and which of them each is (2n before span n, 2n + 1
    after).

    Where one span ends and the next begins, the end comes first.
    """
    found = []
    for (first, end), (before, after) in zip(spans, batches, strict=True):
        found += [Insertion(first, before), Insertion(end, after)]
    order = sorted(range(len(found)), key=lambda i: (found[i].before, i % 2 == 0, i))
    return [found[i] for i in order], order


def query_batches(target: int, query: int) -> tuple[CallBatch, CallBatch]:
    """Begin and end of one query."""
    before, after = CallBatch(), CallBatch()
    before.call("glBeginQuery", target, query)
    after.call("glEndQuery", target)
    return before, after


def _clock_batches() -> tuple[CallBatch, CallBatch]:
    before, after = CallBatch(), CallBatch()
    read_clocks(before, drained=True)
    read_clocks(after, drained=True)
    return before, after


def query_results(session: ReplaySession, queries: list[int]) -> list[int]:
    """Results of queries of the last run, waiting for them."""
    batch = CallBatch()
    command = "glGetQueryObjectui64v" if session.offers("glGetQueryObjectui64v") else "glGetQueryObjectuiv"
    outs = [batch.out(16) for _ in queries]
    for query, out in zip(queries, outs, strict=True):
        batch.call(command, session.names.get("query", query), GL.QUERY_RESULT, out)
    session.executor.run(batch)
    return [out.int64() for out in outs]


class SpanTimer:
    """Times spans of a frame: each span is calls [first, end). Spans must not overlap.

    By drain and by CPU time, a clock is read after the pipeline has been drained on both sides of a span; by timer
    query, a TIME_ELAPSED query encloses it.
    """

    def __init__(
        self, session: ReplaySession, spans: list[tuple[int, int]], method: str, edit: Edit | None = None
    ) -> None:
        """With an edit, the edited frame is timed; what it inserts at the first call of a span lies within the span."""
        edit = edit or Edit()
        self._session = session
        self._spans = spans
        self._column = CPU if method == Clock.CPU else WALL
        self._queries = session.fresh_names("query", len(spans)) if method == Clock.QUERY else []
        batches = [query_batches(GL.TIME_ELAPSED, query) for query in self._queries] or [_clock_batches()] * len(spans)
        insertions, self._order = enclosing(spans, batches)
        self._prepared: Prepared = session.prepare(Edit([*insertions, *edit.insertions], edit.drop, edit.keep_until))

    def run(self) -> Floats:
        """One run; milliseconds of each span, shape (spans,)."""
        self._session.run(self._prepared)
        if self._queries:
            return np.array(query_results(self._session, self._queries)) / 1e6
        stamps = np.zeros(2 * len(self._spans))
        stamps[self._order] = self._prepared.output_words(len(self._order), self._column) / 1e6
        return stamps[1::2] - stamps[0::2]


class FrameTimer:
    """Times the whole frame: the CPU time of submitting it, and until its work is done. Times in milliseconds.

    Without `rasterised`, no fragments are made: submission is all there is to it, and the pictures are not the frame's.
    """

    def __init__(self, session: ReplaySession, edit: Edit | None = None, rasterised: bool = True) -> None:
        edit = edit or Edit()
        self._session = session
        first, last = CallBatch(), CallBatch()
        if not rasterised:
            first.call("glEnable", GL.RASTERIZER_DISCARD)
        read_clocks(first, drained=True)
        read_clocks(last, drained=False)
        read_clocks(last, drained=True)
        around = [Insertion(0, first), Insertion(len(session.frame.calls), last)]
        self._prepared = session.prepare(Edit([*around, *edit.insertions], edit.drop))

    def read(self) -> Floats:
        """One run: of submitting all calls, and of the finished work, by three clocks, shape (2, 3)."""
        self._session.run(self._prepared)
        begin = readings(self._prepared.output(0, READING_BYTES))
        return readings(self._prepared.output(1, 2 * READING_BYTES)) - begin

    def run(self) -> tuple[float, float]:
        """(CPU time of the submitting thread over all calls, time of the wall until the work was done)."""
        submitted, finished = self.read()
        return float(submitted[THREAD]), float(finished[WALL])


def pass_spans(session: ReplaySession) -> list[tuple[int, int]]:
    """Calls of each pass: from after the last step of the pass before to its own last step."""
    passes, steps = session.frame.passes, session.frame.steps
    spans, start = [], 0
    for end in passes.end.tolist():
        last = int(steps.call[end - 1]) + 1
        spans.append((start, last))
        start = last
    return spans


def step_spans(session: ReplaySession) -> list[tuple[int, int]]:
    """The calls [first, end) of each step with what it sets before it draws."""
    steps = session.frame.steps
    return [(first, last + 1) for first, last in zip(steps.begin.tolist(), steps.call.tolist(), strict=True)]


class FrameTimes(msgspec.Struct):
    """Arrays of shape (repeats,), ms."""

    submit_ms: npt.NDArray[np.float64]
    frame_ms: npt.NDArray[np.float64]


@remote
def frame_times(session: ReplaySession, job: Job, repeats: int) -> FrameTimes:
    """Whole-frame times."""
    timer = FrameTimer(session)
    rows = []
    for repeat in range(repeats):
        job.progress("timing the frame", repeat / repeats)
        rows.append(timer.run())
    kept = np.array(rows)
    return FrameTimes(kept[:, 0], kept[:, 1])


@remote
def prefix_ms(session: ReplaySession, job: Job, step: int) -> float:
    """Milliseconds of replaying the frame up to a step, until the work is done."""
    prepared = session.prepare(Edit(keep_until=int(session.frame.steps.call[step]) + 1))
    started = time.perf_counter()
    session.run(prepared)
    session.drain()
    return (time.perf_counter() - started) * 1000


_COUNTERS = (GL.SAMPLES_PASSED, GL.VERTEX_SHADER_INVOCATIONS, GL.FRAGMENT_SHADER_INVOCATIONS)
_STEP_COUNTS: Slot[dict[int, list[int]]] = Slot("step counts")


def step_counts(session: ReplaySession, job: Job) -> dict[int, list[int]]:
    """What the driver counts in each step: counter (a query target) -> counts; those that it has. Counted once."""

    def count() -> dict[int, list[int]]:
        job.progress("counting fragments", 0.0)
        return span_counts(session, step_spans(session), _COUNTERS)

    return session.slots.get(_STEP_COUNTS, count)


@remote
def fragments(session: ReplaySession, job: Job) -> list[int] | None:
    """Fragments of each step that passed all tests, by occlusion query; None where the frame uses its own."""
    return step_counts(session, job).get(GL.SAMPLES_PASSED)


def span_fragments(
    session: ReplaySession, job: Job, spans: list[tuple[int, int]], edit: Edit | None = None
) -> list[int] | None:
    """The same for spans of calls, each [first, end), of the edited frame."""
    job.progress("counting fragments", 0.0)
    return span_counts(session, spans, [GL.SAMPLES_PASSED], edit).get(GL.SAMPLES_PASSED)


def can_count(session: ReplaySession, target: int) -> bool:
    """Whether a counter of the driver (a query target) is there and the frame has no queries of its own."""
    asked = session.frame.calls.calls_of("glBeginQuery", "glBeginQueryIndexed")
    return not len(asked) and session.offers("glGetQueryObjectuiv") and session.offers.value(target)


def span_counts(
    session: ReplaySession, spans: list[tuple[int, int]], targets: Iterable[int], edit: Edit | None = None
) -> dict[int, list[int]]:
    """What counters of the driver (query targets) count in each span of calls, [first, end), of the edited frame, in
    one run: counter -> counts.

    Without those that the context does not have (OpenGL ES has hardly any); none where the frame has queries of its
    own.
    """
    edit = edit or Edit()
    queries = {t: session.fresh_names("query", len(spans)) for t in targets if can_count(session, t)}
    if not queries:
        return {}
    batches = []
    for names in zip(*queries.values(), strict=True):
        before, after = CallBatch(), CallBatch()
        for target, query in zip(queries, names, strict=True):
            before.call("glBeginQuery", target, query)
            after.call("glEndQuery", target)
        batches.append((before, after))
    insertions, _ = enclosing(spans, batches)
    session.run(session.prepare(Edit([*insertions, *edit.insertions], edit.drop)))
    return {target: query_results(session, names) for target, names in queries.items()}
