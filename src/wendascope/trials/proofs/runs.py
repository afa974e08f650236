"""Runs in the replay process: an edited frame against the original, in turns."""

from __future__ import annotations

import itertools
from collections.abc import Callable

import msgspec
import numpy as np
import numpy.typing as npt

from wendascope.backends.contents import differing
from wendascope.backends.doors import THREAD, Changes, Mark, Session
from wendascope.backends.edit import Edit
from wendascope.backends.slots import Slot
from wendascope.errors import TrialError
from wendascope.frame.frame import Picture
from wendascope.frame.remedy import Remedy
from wendascope.measure.deciding import Decision, Measure, Order, differences_of, in_turns
from wendascope.measure.samples import calibration
from wendascope.measure.statistics import Interval, median_interval
from wendascope.measure.times import FrameTimer, SpanTimer, span_fragments
from wendascope.replay.jobs import remote
from wendascope.task import Task
from wendascope.trials.proofs.compare import Count, counts
from wendascope.trials.proofs.outcomes import (
    Ground,
    Outcome,
    Variation,
    edited,
    finished,
    judge_remedies,
    outcomes,
    ready,
    variations,
)
from wendascope.trials.proofs.span_runs import SPANS, SpanPairs, SpanRuns, Spans, frame_scale
from wendascope.trials.proofs.verdicts import small_ms
from wendascope.trials.remedies import may_change_picture

_ORIGINAL: Slot[Picture] = Slot("finished picture")
_FRAGMENTS: Slot[list[int] | None] = Slot("fragments of the frame")
_FLOOR, _SUBMIT_FLOOR = 0.001, 0.005
"""Parts of the frame's work and of its submission below which no difference is claimed: what another layout of the
same calls in memory may come to."""
_SETTLING_RUNS = 5
_SUBMIT_SMALL, _LEAST_MS = 0.04, 0.02
"""A difference of submission below this part of it (or these milliseconds) is none that matters, and below these
milliseconds none that is claimed."""


class Beside(msgspec.Struct):
    """The finished pictures of the original and of an edited frame, shape (h, w, 4), and where they differ, (h, w).

    The bottom row comes first.
    """

    before: npt.NDArray[np.uint8]
    after: npt.NDArray[np.uint8]
    different: npt.NDArray[np.bool_]


class Edited(Beside):
    """The same with the time of both, run once each."""

    ms: float
    edited_ms: float


class Side(msgspec.Struct):
    """One quantity of original and edited, in ms of the frame as it is shown."""

    decision: Decision
    saved: Interval | None
    """Original less edited; None where too few pairs were run."""
    frame_ms: Interval
    """Of the whole original frame."""


class Timed(msgspec.Struct):
    """What original and edited took, run in turns until it was decided."""

    work: Side
    """Its frame is drained, by the time of the wall."""
    submission: Side
    clock: str
    """By which the work was measured."""
    pairs: int = 0
    seconds: float = 0.0


class TrialRun(msgspec.Struct):
    """What came of original and edited frame."""

    times: Timed
    outcome: Outcome
    """On screen, and in what is left behind."""
    ground: Ground
    """Whether the original can be trusted."""
    counts: list[Count]
    """Of original and edited frame; they need no statistics."""
    steps_before: int
    steps_after: int
    calls_before: int
    calls_after: int
    fragments_before: int | None
    fragments_after: int | None
    new_bytes: int
    """Of the buffers and textures that the change brings in."""
    left_out: list[str]
    driver: str
    """What it was measured on."""
    only_state: bool = False
    """Whether all steps are as they were: only submission was measured then, without making fragments."""


def _edit(session: Session, remedies: list[Remedy]) -> Edit:
    """The edited frame of remedies, with the objects it brings in made. Raises TrialError."""
    variation, _ = edited(session, remedies)
    ready(session, variation)
    return variation.edit


@remote
def picture_of(session: Session, job: Task, remedies: list[Remedy]) -> Beside:
    """Where the edited frame differs."""
    variation, _ = edited(session, remedies)
    return _beside(session, finished(session, Variation()), finished(session, variation))


def _beside(session: Session, before: Picture, after: Picture) -> Beside:
    channels = 4 if session.frame.alpha_matters else 3
    different = (before.pixels[..., :channels] != after.pixels[..., :channels]).any(axis=2)
    return Beside(before.pixels, after.pixels, different)


@remote
def edited_picture(session: Session, job: Task, remedies: list[Remedy], passes: list[int]) -> Edited:
    """The same, with the time of both from the first to the last of some passes (none: the frame), run once each
    after the new shaders were compiled. For a first look; a proof measures.
    """
    variation, _ = edited(session, remedies)
    edit = variation.edit
    after = finished(session, variation)  # its first run compiles
    before = session.slots.get(_ORIGINAL, lambda: finished(session, Variation()))
    span = _span(session, passes)
    # what comes after the span is left out: somebody waits for this
    timers = [SpanTimer(session, [span], "drain", Edit(e.insertions, e.drop, span[1])) for e in (Edit(), edit)]
    ms, edited_ms = (float(timer.run()[0]) for timer in timers)
    shown = _beside(session, before, after)
    return Edited(shown.before, shown.after, shown.different, ms, edited_ms)


@remote
def outcome_of(session: Session, job: Task, remedies: list[Remedy]) -> Outcome:
    """Only how the edited frame differs, without measuring. Raises TrialError, ReplayError, CancelledError."""
    job.progress("replaying the edited frame", 0.0)
    return judge_remedies(session, remedies)


def _only_state(session: Session, change: Changes, edit: Edit) -> bool:
    """Whether an edit leaves all steps and what they draw with as they are: then only submission can differ."""
    steps = session.frame.steps.call
    dropped = edit.drop is not None and bool(edit.drop[steps].any())
    return not (change.brings_in or dropped or any(session.draws(i.calls) for i in edit.insertions))


def _submitted(session: Session, job: Task, edit: Edit, seconds: float) -> Timed:
    """Original and edited frame submitted in turns without making fragments."""
    timed = _unmeasured(session, job)
    timers = [FrameTimer(session, e, rasterised=False) for e in (Edit(), edit)]

    def submitted(which: int) -> float:
        return float(timers[which].read()[0, THREAD])

    whole = float(np.median([submitted(0) for _ in range(_SETTLING_RUNS)]))
    measure = Measure(max(_SUBMIT_FLOOR * whole, _LEAST_MS), max(_SUBMIT_SMALL * whole, _LEAST_MS))
    submitted(1)  # warms up
    timed.seconds = in_turns(differences_of(lambda which: [submitted(which)]), [measure], seconds, _telling(job))
    timed.submission = Side(measure.decision, measure.interval, Interval(whole, whole, whole))
    timed.work.decision, timed.pairs = Decision.SMALL, len(measure.differences)
    return timed


def _telling(job: Task) -> Callable[[float], None]:
    return lambda part: job.progress("measuring both in turns", 0.1 + 0.9 * part)


def _unmeasured(session: Session, job: Task) -> Timed:
    clock = calibration(session, job).verdict_clock
    scale = frame_scale(session, clock)
    sides = [Side(Decision.OPEN, None, median_interval(ms)) for ms in (scale.wall, scale.submit)]
    return Timed(sides[0], sides[1], clock)


def _timed(
    session: Session, job: Task, remedies: list[Remedy], passes: list[int], edit: Edit, seconds: float
) -> tuple[Timed, tuple[int, int] | None]:
    """The times of both, and their fragments where they can be counted."""
    timed = _unmeasured(session, job)
    scale = frame_scale(session, timed.clock)
    submit_ms = float(np.median(scale.submit))
    work = Measure(_FLOOR * scale.wall_ms, small_ms(scale.wall_ms))
    submission = Measure(max(_SUBMIT_FLOOR * submit_ms, _LEAST_MS), max(_SUBMIT_SMALL * submit_ms, _LEAST_MS))
    pairs = _pairs(session, remedies, passes, timed.clock, edit)
    fragments = pairs.fragments()
    pairs.run((0, 1))  # warms up: drivers compile shaders anew for where fragments are counted and where not

    def pair(order: Order) -> tuple[float, float]:
        work_ms, submit_ms = pairs.run(order)
        return scale.shown * work_ms, submit_ms

    timed.seconds = in_turns(pair, [work, submission], seconds, _telling(job))
    timed.pairs = len(work.differences)
    for side, measure in ((timed.work, work), (timed.submission, submission)):
        side.decision, side.saved = measure.decision, measure.interval
    return timed, fragments


@remote
def time_remedies(session: Session, job: Task, remedies: list[Remedy], passes: list[int], seconds: float) -> Timed:
    """Only the times of original and edited span, whatever becomes of the picture. Raises TrialError, ReplayError,
    CancelledError.
    """
    edit = _edit(session, remedies)
    return _timed(session, job, remedies, passes, edit, seconds)[0]


@remote
def try_remedies(session: Session, job: Task, remedies: list[Remedy], passes: list[int], seconds: float) -> TrialRun:
    """Replay original and edited frame in turns, the span that changes only, until it is decided what that saves or
    `seconds` of measuring are over. Where the picture changes though it should not, nothing is measured. Raises
    TrialError, ReplayError, CancelledError.
    """
    frame = session.frame
    job.progress("replaying the original twice", 0.0)
    found = outcomes(session)
    if found.ground.unsteady:
        raise TrialError(found.ground.trouble)
    job.progress("replaying the edited frame", 0.05)
    variation, change = edited(session, remedies)
    outcome = found.judge(variations(session, remedies, variation, change.leaves_out))
    edit = variation.edit
    ready(session, variation)
    timed, fragments = _unmeasured(session, job), None
    only_state = _only_state(session, change, edit) and session.can_mark(Mark.FRAGMENTS_OFF)
    measured = not found.ground.trouble and (outcome.same or all(map(may_change_picture, remedies)))
    if measured and only_state:
        timed = _submitted(session, job, edit, seconds)
    elif measured:
        timed, in_span = _timed(session, job, remedies, passes, edit, seconds)
        whole = session.slots.get(_FRAGMENTS, lambda: span_fragments(session, job, [(0, frame.call_count)]))
        if whole is not None and in_span is not None:
            fragments = whole[0], whole[0] + in_span[1] - in_span[0]
    edited_calls = session.edited(edit)
    return TrialRun(
        times=timed,
        outcome=outcome,
        ground=found.ground,
        counts=counts(frame, edited_calls),
        steps_before=len(frame.steps),
        steps_after=change.steps_after,
        calls_before=frame.call_count,
        calls_after=edited_calls.call_count,
        fragments_before=fragments[0] if fragments else None,
        fragments_after=fragments[1] if fragments else None,
        new_bytes=change.new_bytes,
        left_out=change.left_out,
        driver=session.renderer,
        only_state=only_state,
    )


def _pairs(session: Session, remedies: list[Remedy], passes: list[int], clock: str, edit: Edit) -> SpanPairs:
    """Original and edited over the steps that are touched, pass by pass; over all from the first to the end of the last
    pass touched where what they have drawn by then differs, so that steps after them may take another time.
    """
    spans = session.slots.get(SPANS, lambda: Spans(session))

    def pair(first: int, end: int) -> tuple[SpanRuns, SpanRuns]:
        start = spans.start(first)
        return SpanRuns(session, start, end, clock), SpanRuns(session, start, end, clock, edit)

    first, end = _span(session, passes)
    parts = _touched(session, remedies, passes, edit)
    if spans.room(len(parts)):
        pairs = [pair(*part) for part in parts]
        if pairs and (parts == [(first, end)] or not any(differing(a.contents(), b.contents()) for a, b in pairs)):
            return SpanPairs(pairs)
    first = min([first, *(begin for begin, _ in parts)])
    return SpanPairs([pair(first, end)])


def _touched(session: Session, remedies: list[Remedy], passes: list[int], edit: Edit) -> list[tuple[int, int]]:
    """Of each pass, the calls from the first step touched to the last; none where a remedy is of the whole frame."""
    frame = session.frame
    steps = sorted({s for r in remedies for s in (*r.steps, *r.order)})
    if not passes or not steps:
        return []
    moved = [i.before for i in edit.insertions if session.draws(i.calls)]  # where the edited frame has its steps
    found: dict[int, tuple[int, int]] = {}

    def touch(index: int, first: int, last: int) -> None:
        known = found.get(index, (first, last))
        found[index] = min(first, known[0]), max(last, known[1])

    for step in steps:
        touch(int(frame.passes.of_step[step]), session.step_calls(step)[0], int(frame.steps.call[step]) + 1)
    for call in moved:
        step = min(int(np.searchsorted(frame.steps.call, call)), len(frame.steps) - 1)
        touch(int(frame.passes.of_step[step]), call, call + 1)
    parts = [found[index] for index in sorted(found)]
    separate = all(a[1] <= b[0] for a, b in itertools.pairwise(parts))
    return parts if separate else [(parts[0][0], max(end for _, end in parts))]


@remote
def driver_name(session: Session, job: Task) -> str:
    """What the driver of this machine calls itself."""
    return session.renderer


@remote
def count_fragments(session: Session, job: Task, remedies: list[Remedy]) -> list[int] | None:
    """Fragments that pass all tests in each pass of the edited frame; None where they cannot be counted. Raises
    TrialError.
    """
    edit = _edit(session, remedies)
    return span_fragments(session, job, [_span(session, [index]) for index in range(len(session.frame.passes))], edit)


def _span(session: Session, passes: list[int]) -> tuple[int, int]:
    """Calls from the first of some passes to the last; the whole frame when there are none."""
    table, steps = session.frame.passes, session.frame.steps
    if not passes or len(steps) == 0:
        return 0, session.frame.call_count
    first, last = int(table.first[min(passes)]), int(table.end[max(passes)]) - 1
    return (int(steps.call[first - 1]) + 1 if first else 0), int(steps.call[last]) + 1
