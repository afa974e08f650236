"""Queries of the driver round spans of calls."""

from __future__ import annotations

from collections.abc import Iterable

from wendascope.backends.doors import Counter
from wendascope.backends.edit import Calls
from wendascope.backends.opengl.calls.packed import CallBatch
from wendascope.backends.opengl.running.session import ReplaySession
from wendascope.registry import GL

_TARGETS = {
    Counter.TIME: GL.TIME_ELAPSED,
    Counter.SAMPLES: GL.SAMPLES_PASSED,
    Counter.VERTEX_RUNS: GL.VERTEX_SHADER_INVOCATIONS,
    Counter.FRAGMENT_RUNS: GL.FRAGMENT_SHADER_INVOCATIONS,
}


def query_batches(target: int, query: int) -> tuple[CallBatch, CallBatch]:
    """Begin and end of one query."""
    before, after = CallBatch(), CallBatch()
    before.call("glBeginQuery", target, query)
    after.call("glEndQuery", target)
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


def can_count(session: ReplaySession, counter: Counter) -> bool:
    """Whether the context has a counter and the frame no queries of its own that it would be in the way of."""
    if not (session.offers("glGetQueryObjectuiv") and session.offers.value(_TARGETS[counter])):
        return False
    return counter == Counter.TIME or not len(session.frame.calls.calls_of("glBeginQuery", "glBeginQueryIndexed"))


class QueryCounters:
    """One query for each counter and span."""

    def __init__(self, session: ReplaySession, counters: Iterable[Counter], spans: int) -> None:
        self._session = session
        self._queries = {counter: session.fresh_names("query", spans) for counter in counters}
        self.around: list[tuple[Calls, Calls]] = []
        for names in zip(*self._queries.values(), strict=True):
            before, after = CallBatch(), CallBatch()
            for counter, query in zip(self._queries, names, strict=True):
                begin, end = query_batches(_TARGETS[counter], query)
                before.append(begin)
                after.append(end)
            self.around.append((before, after))

    def read(self) -> dict[Counter, list[int]]:
        return {counter: query_results(self._session, names) for counter, names in self._queries.items()}
