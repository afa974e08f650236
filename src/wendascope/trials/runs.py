"""Runs in the replay process: an edited frame against the original, in turns."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import msgspec
import numpy as np
import numpy.typing as npt

from wendascope.analysis.findings import Remedy
from wendascope.errors import ReplayError, TrialError
from wendascope.frame.frame import Picture
from wendascope.frame.packed import Batch
from wendascope.measure.pictures import alpha_matters, compare_pictures
from wendascope.measure.times import FrameTimer, SpanTimer, span_fragments
from wendascope.replay.edit import Edit, Insertion
from wendascope.replay.progress import Job
from wendascope.replay.session import ReplaySession
from wendascope.trials.remedies import FrameChange, change_of

_ORIGINAL = "finished picture"
LEAST_SUBMITS = 6
"""Pairs that an interval of 95 % needs."""


def _edit(session: ReplaySession, remedies: list[Any]) -> tuple[Edit, FrameChange]:
    """The edited frame of remedies as plain values, with the objects it brings in made. Raises TrialError."""
    change = change_of(session.frame, msgspec.convert(remedies, list[Remedy]))
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
            batch = Batch()
            batch.call("wendaDrainedClock", batch.out(8))
            around.append(Insertion(place, batch))
        self._prepared = session.prepare(Edit([*around, *edit.insertions], edit.drop))

    def run(self) -> tuple[float, float]:
        """(ms of the frame, ms of the span)."""
        self._session.run(self._prepared)
        stamps = [int.from_bytes(self._prepared.output(i, 8), "little") / 1e6 for i in range(4)]
        return stamps[3] - stamps[0], stamps[2] - stamps[1]


def _in_turns(timers: Sequence[_TrialTimer | FrameTimer], repeats: int, told: Callable[[float], None]) -> npt.NDArray[np.float64]:
    """Times of original and edited frame, shape (2, repeats, 2). Which goes first changes; the first pair warms up."""
    rows: list[list[tuple[float, float]]] = [[], []]
    for repeat in range(repeats + 1):
        told(repeat / (repeats + 1))
        for which in (0, 1) if repeat % 2 == 0 else (1, 0):
            times = timers[which].run()
            if repeat:
                rows[which].append(times)
    return np.array(rows)


def picture_of(session: ReplaySession, job: Job, remedies: list[Any]) -> dict[str, Any]:
    """Where the edited frame differs: `before`, `after` (h, w, 4) and `different` (h, w), bottom row first."""
    edit, _ = _edit(session, remedies)
    return _beside(session, _finished(session, Edit()), _finished(session, edit))


def _beside(session: ReplaySession, before: Picture, after: Picture) -> dict[str, Any]:
    channels = 4 if alpha_matters(session) else 3
    different = (before.pixels[..., :channels] != after.pixels[..., :channels]).any(axis=2)
    return {"before": before.pixels, "after": after.pixels, "different": different}


def edited_picture(session: ReplaySession, job: Job, remedies: list[Any], passes: list[int]) -> dict[str, Any]:
    """The same, with the time of both from the first to the last of some passes (none: the frame), run once each after the
    new shaders were compiled: `ms`, `edited_ms`. For a first look; a proof measures."""
    edit, _ = _edit(session, remedies)
    after = _finished(session, edit)  # its first run compiles
    if _ORIGINAL not in session.kept:
        session.kept[_ORIGINAL] = _finished(session, Edit())
    span = _span(session, passes)
    # what comes after the span is left out: somebody waits for this
    timers = [SpanTimer(session, [span], "drain", Edit(e.insertions, e.drop, span[1])) for e in (Edit(), edit)]
    ms, edited_ms = (float(timer.run()[0]) for timer in timers)
    return _beside(session, session.kept[_ORIGINAL], after) | {"ms": ms, "edited_ms": edited_ms}


def _finished(session: ReplaySession, edit: Edit) -> Picture:
    session.run(session.prepare(edit))
    return session.final_picture()


def try_remedies(session: ReplaySession, job: Job, remedies: list[Any], passes: list[int], repeats: int) -> dict[str, Any]:
    """Replay original and edited frame in turns. Raises TrialError, ReplayError, CancelledError.

    Returns times as lists in ms, one entry a repeat: `frame`, `edited_frame`, and likewise `pass` and, with fewer
    repeats, `submit`; what differs in the picture; steps, calls and fragments of both; and the bytes of new buffers and textures.
    """
    frame = session.frame
    edit, change = _edit(session, remedies)
    job.progress("replaying the edited frame", 0.0)
    before, after = _finished(session, Edit()), _finished(session, edit)
    different, largest = compare_pictures(after, before, alpha_matters(session))
    where = _where(before, after) if different else None
    edits = (Edit(), edit)
    table = _in_turns([_TrialTimer(session, _span(session, passes), e) for e in edits], repeats, lambda part: job.progress("replaying both in turns", part * 0.7))
    # without a drain in the middle, for which submitting would wait
    submits = _in_turns([FrameTimer(session, e) for e in edits], max(repeats // 2, LEAST_SUBMITS), lambda part: job.progress("submitting both in turns", 0.7 + part * 0.3))
    everything = [(0, len(frame.calls))]
    fragments = [span_fragments(session, job, everything, e) for e in (None, edit)]
    calls = int(len(frame.calls) - (edit.drop.sum() if edit.drop is not None else 0) + sum(len(i.batch.starts) for i in edit.insertions))
    return {
        "frame": table[0, :, 0], "edited_frame": table[1, :, 0], "pass": table[0, :, 1], "edited_pass": table[1, :, 1],
        "different": different, "largest": largest, "where": where, "steps_before": len(frame.steps), "steps_after": change.steps_after,
        "submit": submits[0, :, 0], "edited_submit": submits[1, :, 0], "new_bytes": change.new_bytes, "left_out": change.left_out,
        "calls_before": len(frame.calls), "calls_after": calls,
        "fragments_before": fragments[0][0] if fragments[0] else None, "fragments_after": fragments[1][0] if fragments[1] else None,
    }  # fmt: skip


def count_fragments(session: ReplaySession, job: Job, remedies: list[Any]) -> list[int] | None:
    """Fragments that pass all tests in each pass of the edited frame; None where they cannot be counted. Raises TrialError."""
    edit, _ = _edit(session, remedies)
    return span_fragments(session, job, [_span(session, [index]) for index in range(len(session.frame.passes))], edit)


def _span(session: ReplaySession, passes: list[int]) -> tuple[int, int]:
    """Calls from the first of some passes to the last; the whole frame when there are none."""
    table, steps = session.frame.passes, session.frame.steps
    if not passes or len(steps) == 0:
        return 0, len(session.frame.calls)
    first, last = int(table.first[min(passes)]), int(table.end[max(passes)]) - 1
    return (int(steps.call[first - 1]) + 1 if first else 0), int(steps.call[last]) + 1


def _where(a: Picture, b: Picture) -> tuple[int, int, int, int] | None:
    """(x0, y0, x1, y1) that holds every pixel that differs, y from the bottom; None when sizes differ."""
    if a.pixels.shape != b.pixels.shape:
        return None
    rows, columns = np.nonzero((a.pixels != b.pixels).any(axis=2))
    return int(columns.min()), int(rows.min()), int(columns.max()) + 1, int(rows.max()) + 1
