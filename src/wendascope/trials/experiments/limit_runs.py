"""Runs in the replay process: experiments on some steps, timed in turns, each with its picture."""

from __future__ import annotations

import msgspec
import numpy as np
import numpy.typing as npt

from wendascope.backends.doors import Session
from wendascope.backends.edit import Edit
from wendascope.errors import ReplayError, TrialError
from wendascope.frame.frame import Picture
from wendascope.frame.remedy import Remedy
from wendascope.measure.pictures import compare_pictures
from wendascope.measure.samples import calibrated_method
from wendascope.measure.times import SpanTimer, pass_spans, step_spans
from wendascope.replay.jobs import remote
from wendascope.task import Task
from wendascope.trials.remedies import change_of

_MOST_RUNS = 64
"""Runs of steps that are timed each by itself; where there are more, the passes are."""


class VariantTimes(msgspec.Struct):
    """Some steps in the original frame and in variants of it."""

    ms: npt.NDArray[np.float64]
    """Shape (1 + variants, repeats), the original first; NaN where a variant was refused."""
    refused: list[str]
    """A reason for each variant, or an empty text."""
    different: list[int]
    """Pixels of the finished picture that differ from the original's."""
    largest: list[int]
    mean: list[float]
    """Largest and mean difference of a channel."""
    spans: str
    """`steps` or `passes`: what was timed."""


@remote
def measure_variants(
    session: Session, job: Task, steps: list[int], variants: list[list[Remedy]], repeats: int
) -> VariantTimes:
    """Time some steps in the original frame and in variants of it, all in turns. Raises ReplayError, CancelledError."""
    edits, refused, kept = _edits(session, variants)
    session.add(*kept)
    whole = Edit()
    reference = _picture(session, whole)
    different, largest, mean = [], [], []
    for number, edit in enumerate(edits):
        job.progress("replaying the experiments", number / max(len(edits), 1) * 0.2)
        picture = reference if edit is None else _picture(session, edit)
        pair = compare_pictures(picture, reference, session.frame.alpha_matters)
        different.append(pair[0])
        largest.append(pair[1])
        mean.append(float(np.abs(picture.pixels[..., :3].astype(np.int16) - reference.pixels[..., :3]).mean()))
    spans, what = _spans(session, steps)
    until = max(end for _, end in spans)
    method = calibrated_method(session, job)
    timers = [
        SpanTimer(session, spans, method, Edit(e.insertions, e.drop, until)) if e is not None else None
        for e in (whole, *edits)
    ]
    ms = np.full((len(timers), repeats), np.nan)
    for repeat in range(-1, repeats):  # the first round warms up
        for turn in range(len(timers)):
            number = (turn + repeat) % len(timers)
            timer = timers[number]
            job.progress(
                "timing them in turns", 0.2 + 0.8 * ((repeat + 1) * len(timers) + turn) / ((repeats + 1) * len(timers))
            )
            if timer is not None:
                taken = float(timer.run().sum())
                if repeat >= 0:
                    ms[number, repeat] = taken
    return VariantTimes(ms, refused, different, largest, mean, what)


def _edits(session: Session, variants: list[list[Remedy]]) -> tuple[list[Edit | None], list[str], list[object]]:
    """Edits of all variants with the objects they bring in, by numbers of their own; None where one is refused."""
    edits: list[Edit | None] = []
    refused = []
    brought_in: list[object] = []
    for number, remedies in enumerate(variants):
        try:
            change = change_of(session.frame, remedies, space=number + 1)
            edit = change.edit()
            session.add(change.brought_in)
        except (TrialError, ReplayError) as error:
            edits.append(None)
            refused.append(str(error))
            continue
        edits.append(edit)
        refused.append("")
        brought_in.append(change.brought_in)
    return edits, refused, brought_in


def _picture(session: Session, edit: Edit) -> Picture:
    session.run(session.prepare(edit))
    return session.final_picture()


def _spans(session: Session, steps: list[int]) -> tuple[list[tuple[int, int]], str]:
    """Runs of steps that follow each other; the passes they are in where there are very many."""
    each = step_spans(session)
    runs: list[list[int]] = []
    for step in sorted(steps):
        if runs and step == runs[-1][1] + 1:
            runs[-1][1] = step
        else:
            runs.append([step, step])
    if len(runs) <= _MOST_RUNS:
        return [(each[first][0], each[last][1]) for first, last in runs], "steps"
    passes = pass_spans(session)
    return [passes[index] for index in sorted({int(session.frame.passes.of_step[s]) for s in steps})], "passes"
