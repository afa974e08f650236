"""Times of the frame, its passes and its steps, by the calibrated clock."""

from __future__ import annotations

import time
from typing import Any

import numpy as np
import numpy.typing as npt

from wendascope.frame.packed import Batch
from wendascope.registry import GL
from wendascope.replay.edit import Edit, Insertion
from wendascope.replay.progress import Job
from wendascope.replay.session import Prepared, ReplaySession

Floats = npt.NDArray[np.float64]


class SpanTimer:
    """Times spans of a frame: each span is calls [first, end). Spans must not overlap.

    By drain, a clock is read after the pipeline has been drained on both sides of a span; by timer query,
    a TIME_ELAPSED query encloses it.
    """

    def __init__(self, session: ReplaySession, spans: list[tuple[int, int]], method: str) -> None:
        self._session = session
        self._spans = spans
        self._queries = session.fresh_names("query", len(spans)) if method == "timer query" else []
        insertions = []
        for number, (first, end) in enumerate(spans):
            before, after = Batch(), Batch()
            if self._queries:
                before.call("glBeginQuery", GL.TIME_ELAPSED, self._queries[number])
                after.call("glEndQuery", GL.TIME_ELAPSED)
            else:
                before.call("wendaDrainedClock", before.out(8))
                after.call("wendaDrainedClock", after.out(8))
            # at a shared boundary the end of a span comes before the start of the next
            insertions += [Insertion(first, before), Insertion(end, after)]
        self._order = sorted(range(len(insertions)), key=lambda i: (insertions[i].before, i % 2 == 0, i))
        self._prepared: Prepared = session.prepare(Edit([insertions[i] for i in self._order]))

    def run(self) -> Floats:
        """One run; milliseconds of each span, shape (spans,)."""
        self._session.run(self._prepared)
        if self._queries:
            return self._query_results()
        stamps = np.zeros(2 * len(self._spans))
        for position, number in enumerate(self._order):
            stamps[number] = int.from_bytes(self._prepared.output(position, 8), "little")
        return (stamps[1::2] - stamps[0::2]) / 1e6

    def _query_results(self) -> Floats:
        batch = Batch()
        outs = []
        for query in self._queries:
            out = batch.out(8)
            batch.call("glGetQueryObjectui64v", self._session.names.get("query", query), GL.QUERY_RESULT, out)
            outs.append(out)
        self._session.executor.run(batch)
        return np.array([out.int64() / 1e6 for out in outs])


class FrameTimer:
    """Times the whole frame: submitting it, and until its work is done. Times in milliseconds."""

    def __init__(self, session: ReplaySession) -> None:
        self._session = session
        first, last = Batch(), Batch()
        first.call("wendaDrainedClock", first.out(8))
        last.call("wendaClock", last.out(8))
        last.call("wendaDrainedClock", last.out(8))
        self._prepared = session.prepare(Edit([Insertion(0, first), Insertion(len(session.frame.calls), last)]))

    def run(self) -> tuple[float, float]:
        """(submitted, finished) after the first call, once the earlier work was drained."""
        self._session.run(self._prepared)
        begin = int.from_bytes(self._prepared.output(0, 8), "little")
        submitted, finished = np.frombuffer(self._prepared.output(1, 24), np.uint64)[[0, 2]].tolist()
        return (submitted - begin) / 1e6, (finished - begin) / 1e6


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
    return [(call, call + 1) for call in session.frame.steps.call.tolist()]


def frame_times(session: ReplaySession, job: Job, repeats: int) -> dict[str, Any]:
    """Whole-frame times: arrays `submit_ms` and `frame_ms`, shape (repeats,)."""
    timer = FrameTimer(session)
    rows = []
    for repeat in range(repeats):
        job.progress("timing the frame", repeat / repeats)
        rows.append(timer.run())
    kept = np.array(rows)
    return {"submit_ms": kept[:, 0], "frame_ms": kept[:, 1]}


def prefix_ms(session: ReplaySession, job: Job, step: int) -> float:
    """Milliseconds of replaying the frame up to a step, until the work is done."""
    prepared = session.prepare(Edit(keep_until=int(session.frame.steps.call[step]) + 1))
    started = time.perf_counter()
    session.run(prepared)
    session.drain()
    return (time.perf_counter() - started) * 1000


def fragments(session: ReplaySession, job: Job) -> list[int] | None:
    """Fragments of each step that passed all tests, by occlusion query; None where the frame uses its own."""
    frame = session.frame
    if len(frame.calls.calls_of("glBeginQuery", "glBeginQueryIndexed")) or frame.context.number < 15:
        return None
    job.progress("counting fragments", 0.0)
    queries = session.fresh_names("query", len(frame.steps))
    insertions = []
    for call, query in zip(frame.steps.call.tolist(), queries, strict=True):
        before, after = Batch(), Batch()
        before.call("glBeginQuery", GL.SAMPLES_PASSED, query)
        after.call("glEndQuery", GL.SAMPLES_PASSED)
        insertions += [Insertion(call, before), Insertion(call + 1, after)]
    # the end of one step's query comes before the start of the next at the same place
    insertions = [row for _, row in sorted(enumerate(insertions), key=lambda r: (r[1].before, r[0] % 2 == 0, r[0]))]
    session.run(session.prepare(Edit(insertions)))
    batch = Batch()
    outs = []
    for query in queries:
        out = batch.out(8)
        batch.call("glGetQueryObjectui64v", session.names.get("query", query), GL.QUERY_RESULT, out)
        outs.append(out)
    session.executor.run(batch)
    return [out.int64() for out in outs]
