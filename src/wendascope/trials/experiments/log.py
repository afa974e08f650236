"""Everything that was tried on a frame: proofs of findings, edits somebody made, experiments. Kept ones make one
edited frame.
"""

from __future__ import annotations

import uuid
from collections.abc import Iterable, Mapping
from pathlib import Path

import msgspec

from wendascope import records
from wendascope.advice.findings import Finding
from wendascope.errors import UsageError
from wendascope.frame.frame import Frame
from wendascope.frame.remedy import Remedy
from wendascope.measure.statistics import Interval
from wendascope.replay.client import Replay
from wendascope.task import QUIET, Task
from wendascope.texts import share as per_cent
from wendascope.trials.experiments.limits import Limits
from wendascope.trials.proofs.proof import Proof, in_order, measured_proof, now
from wendascope.trials.proofs.verdicts import VERDICTS, Verdict, judge_times

PROOF, EDIT, EXPERIMENT = "proof", "edit", "experiment"
KEPT, DROPPED, UNDECIDED = "kept", "dropped", ""


class Attempt(msgspec.Struct):
    """A change of the frame that somebody made by hand, measured like a proof."""

    id: str
    title: str
    remedies: list[Remedy]
    proof: Proof
    note: str = ""


class Mark(msgspec.Struct):
    """What somebody thinks of a trial; the newest of one trial counts."""

    trial: str
    state: str
    note: str = ""
    made_at: str = ""


class Trial(msgspec.Struct):
    """One line of the log."""

    id: str
    kind: str
    title: str
    remedies: list[Remedy]
    verdict: str
    saved_ms: Interval | None
    """Of the passes touched; of an experiment, of its steps alone."""
    pixels_different: int = 0
    max_difference: int = 0
    state: str = UNDECIDED
    note: str = ""
    made_at: str = ""
    told: str = ""
    """What was measured, in one line."""


class Log(msgspec.Struct):
    """What a file holds of trials."""

    attempts: list[Attempt] = []
    marks: dict[str, Mark] = {}
    together: Proof | None = None
    """The newest measurement of all kept trials as one edited frame."""


def stored_log(path: Path) -> Log:
    """Raises FileError."""
    marks = {mark.trial: mark for mark in records.TRIAL_MARK.all(path)}
    return Log(records.ATTEMPT.all(path), marks, records.KEPT_TOGETHER.newest(path))


def trials_of(
    log: Log, findings: Iterable[Finding], proofs: Mapping[str, Proof], limits: Iterable[Limits]
) -> list[Trial]:
    """All trials of a frame, the newest first."""
    rows = [
        _of_proof(f.id, PROOF, f.title, _as_held(f, proofs[f.id]), proofs[f.id]) for f in findings if f.id in proofs
    ]
    rows += [_of_proof(a.id, EDIT, a.title, a.remedies, a.proof) for a in log.attempts]
    rows += [row for item in limits for row in _of_limits(item)]
    notes = {a.id: a.note for a in log.attempts}
    for row in rows:
        mark = log.marks.get(row.id)
        row.state, row.note = (mark.state, mark.note) if mark else (UNDECIDED, notes.get(row.id, ""))
    return sorted(rows, key=lambda row: row.made_at, reverse=True)


def _as_held(finding: Finding, proof: Proof) -> list[Remedy]:
    if finding.remedy is None:
        return []
    return [(in_order(finding.remedy) or finding.remedy) if proof.in_order else finding.remedy]


def _of_proof(identity: str, kind: str, title: str, remedies: list[Remedy], proof: Proof) -> Trial:
    return Trial(
        identity,
        kind,
        title,
        remedies,
        proof.verdict if proof.verdict in VERDICTS else Verdict.NOISE,
        proof.saved_ms,
        proof.pixels_different,
        proof.max_difference,
        made_at=proof.made_at,
        told=proof.summary or proof.reason,
    )


def _of_limits(item: Limits) -> Iterable[Trial]:
    for experiment in item.experiments:
        saved = experiment.saved_ms
        if saved is None:
            verdict, told = Verdict.REFUSED, experiment.refused
        else:
            verdict = Verdict.CHANGES if experiment.pixels_different else judge_times(saved, item.ms.median).verdict
            share = "" if experiment.share is None else f", {per_cent(experiment.share)} of its draw time"
            told = (
                f"saved {saved.median:.2f} ms ({saved.low:.2f} to {saved.high:.2f}){share};"
                f" {experiment.pixels_different:,} pixels differ by up to {experiment.max_difference}"
            )
        identity = "-".join(
            ["limits", str(item.program), *([str(item.steps[0])] if item.steps else []), experiment.name]
        )
        yield Trial(
            identity, EXPERIMENT, f"{experiment.title}, {item.label}", experiment.remedies, verdict, saved,
            experiment.pixels_different, experiment.max_difference, made_at=item.made_at, told=told,
        )  # fmt: skip


def attempt(
    path: Path,
    frame: Frame,
    title: str,
    remedies: list[Remedy],
    replay: Replay,
    note: str = "",
    seconds: float | None = None,
    task: Task = QUIET,
) -> Attempt:
    """Measure a change like a proof and keep it in the file. Raises ReplayError, CancelledError, FileError."""
    identity = f"edit-{uuid.uuid4().hex[:8]}"
    proof = measured_proof(frame, identity, remedies, replay, seconds, task)
    proof.made_at = now()
    made = Attempt(identity, title, remedies, proof, note)
    records.ATTEMPT.keep(path, made)
    return made


def mark(path: Path, trial: str, state: str, note: str) -> Mark:
    """Keep a trial or drop it, with a note. Raises FileError."""
    made = Mark(trial, state, note, now())
    records.TRIAL_MARK.keep(path, made)
    return made


def measure_kept(
    path: Path, frame: Frame, trials: Iterable[Trial], replay: Replay, seconds: float | None = None,
    task: Task = QUIET,
) -> Proof:  # fmt: skip
    """All kept trials as one edited frame, kept in the file. Raises UsageError where none is kept, ReplayError,
    CancelledError.
    """
    kept = kept_of(trials)
    proof = measured_proof(
        frame, "kept", [remedy for trial in kept for remedy in trial.remedies], replay, seconds, task
    )
    proof.together, proof.made_at = [trial.id for trial in kept], now()
    records.KEPT_TOGETHER.keep(path, proof)
    return proof


def kept_of(trials: Iterable[Trial]) -> list[Trial]:
    """Those that are kept and can be made. Raises UsageError where there are none."""
    found = [trial for trial in trials if trial.state == KEPT and trial.remedies]
    if not found:
        raise UsageError("no trial of this frame is kept; keep one first")
    return found
