"""Times against limits, by the rule that proofs are decided by (`measure/deciding.py`): runs until the whole interval
of what is missing to the limit, or beyond it, lies on one side; never by a single number.

Against a fixed limit the wall counts, as somebody waits for it. Against a baseline both frames are run in turns, by the
clock that load shakes least, and the share by which one takes longer counts.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from wendascope.backends.doors import CPU, THREAD, WALL, Session
from wendascope.backends.slots import Slot
from wendascope.measure.clocks import Clock
from wendascope.measure.deciding import Decision, Measure, Order, in_turns
from wendascope.measure.samples import calibration, prepare
from wendascope.measure.statistics import Interval, median_interval
from wendascope.measure.times import FrameTimer, SpanTimer, pass_spans
from wendascope.replay.client import Replay
from wendascope.replay.jobs import remote
from wendascope.task import Task
from wendascope.trials.checks.budget import Allowance

_FLOOR = 0.001
"""Part of a limit by which it must be kept or broken: what another layout in memory may come to."""
_TIMERS: Slot[dict[tuple[str, tuple[int, ...]], tuple[FrameTimer, SpanTimer | None]]] = Slot("timers of checks")


@remote
def verdict_clock(session: Session, job: Task) -> str:
    """The clock that verdicts go by on this machine."""
    return calibration(session, job).verdict_clock


@remote
def timed_run(session: Session, job: Task, clock: str, passes: list[int], whole: bool) -> list[float]:
    """One run, ms: submission and work of the frame where it is asked for `whole`, then each of some passes."""
    timers = session.slots.get(_TIMERS, dict)
    key = clock, tuple(passes)
    if key not in timers:
        spans = pass_spans(session)
        timers[key] = FrameTimer(session), SpanTimer(session, [spans[i] for i in passes], clock) if passes else None
    frame, spans_timer = timers[key]
    found: list[float] = []
    if whole:
        submitted, finished = frame.read()
        found = [float(submitted[THREAD]), float(finished[CPU if clock == Clock.CPU else WALL])]
    return found + (spans_timer.run().tolist() if spans_timer is not None else [])


@dataclass(frozen=True)
class Asked:
    """One time that is to be checked."""

    passes: tuple[int, ...]
    """Those it is of, and in a baseline those of the same; none for the whole frame."""
    base_passes: tuple[int, ...]
    submission: bool
    allowed: Allowance


@dataclass(frozen=True)
class Told:
    """What came of it."""

    decision: Decision
    """A gain where the limit is kept, a loss where it is broken."""
    ms: Interval
    base_ms: Interval | None
    beyond: Interval | None
    """What it takes beyond the limit, ms; None where too few runs were made."""
    runs: int


def check_times(
    asked: Sequence[Asked], replay: Replay, baseline: Replay | None, seconds: float, task: Task
) -> list[Told]:
    """Fixed limits first, then those against the baseline. Raises ReplayError, CancelledError."""
    found: dict[int, Told] = {}
    for relative in (False, True):
        chosen = [i for i, item in enumerate(asked) if item.allowed.relative == relative]
        if not chosen:
            continue
        replays = [replay, baseline] if relative and baseline is not None else [replay]
        told = _in_turns([asked[i] for i in chosen], replays, seconds, task)
        found |= dict(zip(chosen, told, strict=True))
    return [found[i] for i in range(len(asked))]


def _in_turns(asked: Sequence[Asked], replays: Sequence[Replay], seconds: float, task: Task) -> list[Told]:
    for replay in replays:
        replay.run(prepare.asked(), task)
    clock = replays[0].run(verdict_clock.asked(), task)
    if len(replays) == 1 and clock == Clock.CPU:
        clock = Clock.DRAIN  # the CPU time of all threads is more than anybody waits
    whole = any(not item.passes for item in asked)
    passes = [
        sorted({i for item in asked for i in item.passes}),
        sorted({i for item in asked for i in item.base_passes}),
    ]
    rows: list[list[list[float]]] = [[] for _ in replays]

    def run(which: int) -> list[float]:
        taken = replays[which].run(timed_run.asked(clock, passes[which], whole), task.quietly())
        times = dict(zip(passes[which], taken[2 if whole else 0 :], strict=True))
        return [
            sum(times[i] for i in ((item.passes, item.base_passes)[which]))
            if item.passes
            else taken[0 if item.submission else 1]
            for item in asked
        ]

    first = [run(which) for which in range(len(replays))]  # warms up, and tells how large the times are
    scales = [max(item.allowed.beyond(first[-1][k]), 1e-3) for k, item in enumerate(asked)]
    measures = [Measure(_FLOOR * scale, 0.0) for scale in scales]

    def pair(order: Order) -> list[float]:
        taken = {which: run(which) for which in order if which < len(replays)}
        for which, row in taken.items():
            rows[which].append(row)
        base = taken.get(1, taken[0])  # a fixed limit does not look at it
        return [item.allowed.beyond(base[k]) - taken[0][k] for k, item in enumerate(asked)]

    in_turns(pair, measures, seconds, lambda part: task.progress("measuring against the limits", part))
    told = []
    for k, measure in enumerate(measures):
        ms = [median_interval(np.array([row[k] for row in mine])) for mine in rows]
        beyond = measure.interval and Interval(-measure.interval.median, -measure.interval.high, -measure.interval.low)
        told.append(Told(measure.decision, ms[0], ms[1] if len(ms) > 1 else None, beyond, len(measure.differences)))
    return told
