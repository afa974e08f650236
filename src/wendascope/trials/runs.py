"""Runs in the replay process: an edited frame against the original, in turns."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import msgspec
import numpy as np
import numpy.typing as npt

from wendascope.analysis.findings import Remedy
from wendascope.errors import ReplayError, TrialError
from wendascope.frame.frame import Picture
from wendascope.measure.pictures import alpha_matters
from wendascope.measure.times import FrameTimer, SpanTimer, span_fragments
from wendascope.opengl.packed import CallBatch
from wendascope.replay.edit import Edit, Insertion
from wendascope.replay.jobs import remote
from wendascope.replay.progress import Job
from wendascope.replay.session import ReplaySession
from wendascope.replay.slots import Slot
from wendascope.trials.outcomes import Ground, Outcome, outcomes, variations
from wendascope.trials.remedies import FrameChange, change_of

_ORIGINAL: Slot[Picture] = Slot("finished picture")
LEAST_SUBMITS = 8
"""Pairs that an interval of 99 % needs."""


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


class TrialRun(msgspec.Struct):
    """What came of original and edited frame in turns. Times in ms, one entry a repeat; fewer of submitting."""

    frame: npt.NDArray[np.float64]
    edited_frame: npt.NDArray[np.float64]
    passes: npt.NDArray[np.float64]
    """From the first to the last of the passes that the change touches."""
    edited_passes: npt.NDArray[np.float64]
    submit: npt.NDArray[np.float64]
    edited_submit: npt.NDArray[np.float64]
    outcome: Outcome
    """On screen, and in what is left behind."""
    ground: Ground
    """Whether the original can be trusted."""
    steps_before: int
    steps_after: int
    calls_before: int
    calls_after: int
    fragments_before: int | None
    fragments_after: int | None
    new_bytes: int
    """Of the buffers and textures that the change brings in."""
    left_out: list[str]


def _edit(session: ReplaySession, remedies: list[Remedy]) -> tuple[Edit, FrameChange]:
    """The edited frame of remedies, with the objects it brings in made. Raises TrialError."""
    change = change_of(session.frame, remedies)
    edit = change.edit()
    try:
        session.add(change.new.objects)
    except ReplayError as error:
        raise TrialError(f"what was rewritten for this is refused by the driver: {error}") from error
    return edit, change


class _TrialTimer:
    """Times a frame and a span of it in one run, the pipeline drained at both ends of both."""

    def __init__(self, session: ReplaySession, span: tuple[int, int], edit: Edit) -> None:
        self._session = session
        around = []
        for place in (0, span[0], span[1], len(session.frame.calls)):
            batch = CallBatch()
            batch.call("wendaDrainedClock", batch.out(8))
            around.append(Insertion(place, batch))
        self._prepared = session.prepare(Edit([*around, *edit.insertions], edit.drop))

    def run(self) -> tuple[float, float]:
        """(ms of the frame, ms of the span)."""
        self._session.run(self._prepared)
        stamps = [int.from_bytes(self._prepared.output(i, 8), "little") / 1e6 for i in range(4)]
        return stamps[3] - stamps[0], stamps[2] - stamps[1]


def _in_turns(
    timers: Sequence[_TrialTimer | FrameTimer], repeats: int, told: Callable[[float], None]
) -> npt.NDArray[np.float64]:
    """Times of original and edited frame, shape (2, repeats, 2). Which goes first changes; the first pair warms up."""
    rows: list[list[tuple[float, float]]] = [[], []]
    for repeat in range(repeats + 1):
        told(repeat / (repeats + 1))
        for which in (0, 1) if repeat % 2 == 0 else (1, 0):
            times = timers[which].run()
            if repeat:
                rows[which].append(times)
    return np.array(rows)


@remote
def picture_of(session: ReplaySession, job: Job, remedies: list[Remedy]) -> Beside:
    """Where the edited frame differs."""
    edit, _ = _edit(session, remedies)
    return _beside(session, _finished(session, Edit()), _finished(session, edit))


def _beside(session: ReplaySession, before: Picture, after: Picture) -> Beside:
    channels = 4 if alpha_matters(session) else 3
    different = (before.pixels[..., :channels] != after.pixels[..., :channels]).any(axis=2)
    return Beside(before.pixels, after.pixels, different)


@remote
def edited_picture(session: ReplaySession, job: Job, remedies: list[Remedy], passes: list[int]) -> Edited:
    """The same, with the time of both from the first to the last of some passes (none: the frame), run once each
    after the new shaders were compiled. For a first look; a proof measures.
    """
    edit, _ = _edit(session, remedies)
    after = _finished(session, edit)  # its first run compiles
    before = session.slots.get(_ORIGINAL, lambda: _finished(session, Edit()))
    span = _span(session, passes)
    # what comes after the span is left out: somebody waits for this
    timers = [SpanTimer(session, [span], "drain", Edit(e.insertions, e.drop, span[1])) for e in (Edit(), edit)]
    ms, edited_ms = (float(timer.run()[0]) for timer in timers)
    shown = _beside(session, before, after)
    return Edited(shown.before, shown.after, shown.different, ms, edited_ms)


def _finished(session: ReplaySession, edit: Edit) -> Picture:
    session.run(session.prepare(edit))
    return session.final_picture()


@remote
def try_remedies(session: ReplaySession, job: Job, remedies: list[Remedy], passes: list[int], repeats: int) -> TrialRun:
    """Replay original and edited frame in turns. Raises TrialError, ReplayError, CancelledError."""
    frame = session.frame
    job.progress("replaying the original twice", 0.0)
    found = outcomes(session)
    if found.ground.unsteady:
        raise TrialError(found.ground.trouble)
    job.progress("replaying the edited frame", 0.05)
    outcome = found.judge(variations(session, remedies))
    edit, change = _edit(session, remedies)
    edits = (Edit(), edit)
    table = _in_turns(
        [_TrialTimer(session, _span(session, passes), e) for e in edits],
        repeats,
        lambda part: job.progress("replaying both in turns", 0.1 + part * 0.6),
    )
    # without a drain in the middle, for which submitting would wait
    submits = _in_turns(
        [FrameTimer(session, e) for e in edits],
        max(repeats // 2, LEAST_SUBMITS),
        lambda part: job.progress("submitting both in turns", 0.7 + part * 0.3),
    )
    everything = [(0, len(frame.calls))]
    fragments = [span_fragments(session, job, everything, e) for e in (None, edit)]
    calls = int(
        len(frame.calls)
        - (edit.drop.sum() if edit.drop is not None else 0)
        + sum(len(i.batch.starts) for i in edit.insertions)
    )
    return TrialRun(
        frame=table[0, :, 0],
        edited_frame=table[1, :, 0],
        passes=table[0, :, 1],
        edited_passes=table[1, :, 1],
        submit=submits[0, :, 0],
        edited_submit=submits[1, :, 0],
        outcome=outcome,
        ground=found.ground,
        steps_before=len(frame.steps),
        steps_after=change.steps_after,
        calls_before=len(frame.calls),
        calls_after=calls,
        fragments_before=fragments[0][0] if fragments[0] else None,
        fragments_after=fragments[1][0] if fragments[1] else None,
        new_bytes=change.new_bytes,
        left_out=change.left_out,
    )


@remote
def count_fragments(session: ReplaySession, job: Job, remedies: list[Remedy]) -> list[int] | None:
    """Fragments that pass all tests in each pass of the edited frame; None where they cannot be counted. Raises
    TrialError.
    """
    edit, _ = _edit(session, remedies)
    return span_fragments(session, job, [_span(session, [index]) for index in range(len(session.frame.passes))], edit)


def _span(session: ReplaySession, passes: list[int]) -> tuple[int, int]:
    """Calls from the first of some passes to the last; the whole frame when there are none."""
    table, steps = session.frame.passes, session.frame.steps
    if not passes or len(steps) == 0:
        return 0, len(session.frame.calls)
    first, last = int(table.first[min(passes)]), int(table.end[max(passes)]) - 1
    return (int(steps.call[first - 1]) + 1 if first else 0), int(steps.call[last]) + 1
