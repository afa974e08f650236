"""Proofs of a frame's findings: the most promising next, as far as the time reaches, then the best set as one frame."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from wendascope import records
from wendascope.advice.findings import Finding
from wendascope.analysis.guidelines import guidelines
from wendascope.errors import ReplayCrashedError, TrialError
from wendascope.frame.frame import Frame
from wendascope.measure.records import Survey
from wendascope.replay.client import Replay
from wendascope.task import QUIET, Task
from wendascope.trials.proofs.best_set import best_set, excludes
from wendascope.trials.proofs.proof import (
    Proof,
    as_proved,
    check_driver,
    keep_proof,
    prove,
    stored_proofs,
    together_name,
    touched_passes,
)
from wendascope.trials.proofs.runs import outcome_of
from wendascope.trials.proofs.verdicts import Verdict

_MOST_ATTEMPTS = 12
"""Replays spent on finding out which changes exclude each other."""
_PICTURE_RUNS, _TIMED_RUNS = 8, 24
"""Whole frames that a proof replays, and runs of the span that it measures, mostly."""
_UNKNOWN_PART = 0.02
"""Of what a change could bring at most: what is expected of it where nothing better is known."""
_ADDS_UP, _MOST_ADDED = 0.6, 4
"""Of the sum of what changes save alone: what saves less together is looked at one by one, so many of them."""
_CORRECTED = (0.1, 20.0)
"""How far a proof on this frame moves the estimates of its rule."""


@dataclass(frozen=True)
class AllProofs:
    """Proofs in the order of the findings given, of those that were reached, and the one of all that hold together."""

    proofs: list[Proof]
    combined: Proof | None
    left: list[str]
    """Findings that the time did not reach."""
    covered: dict[str, str] = field(default_factory=dict)
    """Finding -> the finding whose proof holds it among others, so that it needed none of its own."""


def seconds_to_prove(frame: Frame, finding: Finding, survey: Survey | None) -> float:
    """About what its proof takes: some runs of the frame, and many of the passes touched."""
    if survey is None or finding.remedy is None:
        return 1.0
    passes = touched_passes(frame, [finding.remedy]) or list(range(len(frame.passes)))
    span = sum(survey.passes[i].ms for i in range(min(passes), max(passes) + 1)) if passes else 0.0
    return (_PICTURE_RUNS * survey.frame_ms.median + _TIMED_RUNS * min(span, survey.frame_ms.median)) / 1000 + 0.05


class Promise:
    """What each finding is expected to bring for each second of proving it. The proofs of a rule on this very frame
    correct the estimates of its other findings.
    """

    def __init__(self, frame: Frame, survey: Survey | None, most: Callable[[Finding], float]) -> None:
        """`most` is what a finding could bring at most, ms."""
        self._frame, self._survey, self._most = frame, survey, most
        self._shown: dict[str, list[float]] = {}
        """Rule -> what was proved over what was expected."""

    def learn(self, finding: Finding, proof: Proof) -> None:
        """Take a proof into account."""
        gain = proof.gain_ms if proof.trade_ms is None else proof.trade_ms
        if finding.estimate_ms and proof.verdict != Verdict.REFUSED:
            self._shown.setdefault(finding.rule, []).append(max(gain or 0.0, 0.0) / finding.estimate_ms)

    def expected(self, finding: Finding) -> float:
        """Milliseconds, as far as anybody knows."""
        shown = self._shown.get(finding.rule)
        if shown and finding.estimate_ms:
            low, high = _CORRECTED
            return finding.estimate_ms * min(max(float(np.median(shown)), low), high)
        return max(finding.estimate_ms or 0.0, _UNKNOWN_PART * self._most(finding))

    def __call__(self, finding: Finding) -> float:
        """Expected ms for each second."""
        return self.expected(finding) / seconds_to_prove(self._frame, finding, self._survey)


def prove_all(
    path: Path, frame: Frame, findings: Sequence[Finding], replay: Replay, seconds: float | None = None,
    task: Task = QUIET, unsure: bool = False,
    budget: float | None = None, again: bool = False, proved: Callable[[Proof], None] = lambda _proof: None,
    most: Callable[[Finding], float] = lambda finding: finding.estimate_ms or 0.0, parts_too: bool = True,
) -> AllProofs:  # fmt: skip
    """A proof of every finding, and one of all that save time together; None where fewer than two do.

    `seconds` limits each proof and `budget` all of them; the guidelines say how much where nothing is given. Findings
    that have a proof already keep it unless `again`; `proved` hears of each new one at once, and each is kept in the
    file as it is made. With `unsure`, the combined frame also takes those that keep the picture and of which alone
    nothing can be told. `most` bounds what a finding could bring, ms. Without `parts_too`, what the proof of a whole
    (all batches of the frame, or of a pass) holds gets none of its own where that one kept the picture. Raises
    ReplayError, CancelledError.
    """
    check_driver(path, replay)
    limits = guidelines().proofs
    seconds = limits.seconds if seconds is None else seconds
    budget = limits.budget_seconds if budget is None else budget
    known = {} if again else {k: v for k, v in stored_proofs(path).items() if v.verdict != Verdict.NOISE}
    promise = Promise(frame, records.SURVEY.newest(path), most)
    made: dict[str, Proof] = {f.id: known[f.id] for f in findings if f.id in known}
    for item in findings:
        if item.id in made:
            promise.learn(item, made[item.id])
    waiting = [f for f in findings if f.id not in made]
    covered: dict[str, str] = {}
    started, number = time.monotonic(), 0
    while waiting:
        spent = time.monotonic() - started
        if not parts_too:
            covered |= held_by_wholes(waiting, findings, made)
            waiting = [f for f in waiting if f.id not in covered]
        tried_whole = any(f.kept_rule.whole and f.id in made for f in findings)
        ready = _ready(waiting, tried_whole, spent > budget, parts_too)
        if not ready:
            break
        item = max(ready, key=promise)
        waiting.remove(item)
        rest = min(spent / number * (len(waiting) + 1) if number else 0.0, budget - spent)
        left = f", about {rest:.0f} s left" if rest >= 1 else ""  # the last ones may go beyond the budget
        prefix = f"proof {number + 1} of {number + 1 + len(waiting)}{left}: "
        whole = number + 2 + len(waiting)
        one = task.part(number / whole, (number + 1) / whole, prefix)
        try:
            made[item.id] = prove(path, frame, [item], replay, seconds, one)
        except ReplayCrashedError as error:  # the next one gets a new process
            made[item.id] = Proof(item.id, Verdict.REFUSED, f"replaying it ends the driver: {error}")
            keep_proof(path, made[item.id])
        promise.learn(item, made[item.id])
        proved(made[item.id])
        number += 1
    proofs = [made[f.id] for f in findings if f.id in made]
    combined = _combined(path, frame, findings, made, replay, seconds, task, unsure, again)
    if combined is not None:
        proved(combined)
    return AllProofs(proofs, combined, [f.id for f in waiting], covered)


def _ready(waiting: Sequence[Finding], tried_whole: bool, late: bool, parts_too: bool) -> Sequence[Finding]:
    """Which may be proved next. Without `parts_too`, single batches wait for the plan that holds them, and the plan of
    the whole frame is tried even where it is late.
    """
    if parts_too:
        return [] if late else waiting
    wholes = [f for f in waiting if f.kept_rule.whole]
    if late:
        return [] if tried_whole or not wholes else [max(wholes, key=lambda f: len(f.steps))]
    return [f for f in waiting if f.kept_rule.whole or not (wholes and f.kept_rule.joins_draws)]


def held_by_wholes(
    parts: Sequence[Finding], findings: Sequence[Finding], proofs: Mapping[str, Proof]
) -> dict[str, str]:
    """Part -> the finding of which it is a part and whose proof kept the picture: what it would draw together, that one
    drew together.
    """
    wholes = [
        f
        for f in findings
        if f.kept_rule.whole
        and f.id in proofs
        and proofs[f.id].verdict in (Verdict.SAVES, Verdict.COSTS, Verdict.NO_DIFFERENCE, Verdict.NOISE)
    ]
    wholes.sort(key=lambda f: -len(f.steps))
    found: dict[str, str] = {}
    for part in parts:
        if part.remedy is None or not part.remedy.parts or not part.kept_rule.joins_draws:
            continue
        mine = {tuple(p.steps) for p in part.remedy.parts}
        for whole in wholes:
            assert whole.remedy is not None
            if whole is not part and mine <= {tuple(p.steps) for p in whole.remedy.parts}:
                found[part.id] = whole.id
                break
    return found


def _combined(
    path: Path, frame: Frame, findings: Sequence[Finding], made: Mapping[str, Proof], replay: Replay, seconds: float,
    task: Task, unsure: bool, again: bool,
) -> Proof | None:  # fmt: skip
    """The best set that holds: what changes the picture among others, or costs time with them, is left out."""
    taken = {Verdict.SAVES, Verdict.NO_DIFFERENCE, Verdict.NOISE} if unsure else {Verdict.SAVES}
    candidates = [as_proved(f, made[f.id]) for f in findings if f.id in made and made[f.id].verdict in taken]
    candidates = [f for f in candidates if f.remedy is not None]
    parts = held_by_wholes(candidates, candidates, made)
    candidates = [f for f in candidates if f.id not in parts]
    chosen = best_set(candidates, lambda f: made[f.id].both_ms)
    excluded = [
        f"{f.title}: wants the same steps as {next((c.title for c in chosen if excludes(c, f)), 'another')}"
        for f in candidates
        if f not in chosen
    ]

    task = task.part(0.0, 1.0, "all together: ")
    known = stored_proofs(path).get(together_name([f.id for f in chosen]))
    if known is not None and known.verdict != Verdict.NOISE and len(chosen) > 1 and not again:
        return known
    held, out = _holding(frame, chosen, replay, task)
    excluded += out
    if len(held) < 2:
        return None
    proof = prove(path, frame, held, replay, 2 * seconds, task)
    if proof.verdict == Verdict.COSTS:
        halves = held[: max(len(held) // 2, 2)]  # those that save most alone
        fewer = prove(path, frame, halves, replay, 2 * seconds, task) if halves != held else proof
        if fewer.verdict != Verdict.COSTS:
            excluded += [f"{f.title}: costs time with the others" for f in held if f not in halves]
            proof = fewer
    alone = [made[f.id].both_ms for f in held]
    if proof.verdict != Verdict.SAVES or proof.both_ms < _ADDS_UP * sum(alone):
        proof = _one_by_one(path, frame, held, made, replay, seconds, task, proof)
    if excluded:
        proof.excluded = excluded
        keep_proof(path, proof)
    return proof


def _one_by_one(
    path: Path, frame: Frame, held: Sequence[Finding], made: Mapping[str, Proof], replay: Replay, seconds: float,
    task: Task, together: Proof,
) -> Proof:  # fmt: skip
    """The best of all together and of those that add to the first, each tried with what was taken in before it: where
    changes get in each other's way, fewer of them save more.
    """
    best, taken = together, [held[0]]
    least = made[held[0].id].both_ms
    for item in held[1 : 1 + _MOST_ADDED]:
        proof = prove(path, frame, [*taken, item], replay, seconds, task)
        if proof.verdict == Verdict.SAVES and proof.both_ms > least:
            taken, least = [*taken, item], proof.both_ms
            best = proof if proof.both_ms > best.both_ms else best
    return best


def _holding(frame: Frame, chosen: list[Finding], replay: Replay, task: Task) -> tuple[list[Finding], list[str]]:
    """Those that keep the picture together, and what was left out with the reason: the first that does not hold with
    all before it is found by halving.
    """
    held, excluded, attempts = list(chosen), [], 0

    def holds(some: Sequence[Finding]) -> bool:
        nonlocal attempts
        attempts += 1
        task.progress(f"looking for changes that exclude each other, attempt {attempts}", attempts / _MOST_ATTEMPTS)
        try:
            return replay.run(outcome_of.asked([f.remedy for f in some if f.remedy]), task).same
        except TrialError:
            return False

    while len(held) > 1 and not holds(held):
        low, high = 1, len(held)  # the first `low` hold, the first `high` do not
        while high - low > 1 and attempts < _MOST_ATTEMPTS:
            middle = (low + high) // 2
            if holds(held[:middle]):
                low = middle
            else:
                high = middle
        culprit = held[high - 1]
        before = held[:low]
        partner = before[0] if low == 1 else None
        for other in before if low > 1 else ():
            if attempts < _MOST_ATTEMPTS and not holds([other, culprit]):
                partner = other
                break
        excluded.append(f"{culprit.title}: excludes {partner.title if partner else 'the others together'}")
        held.remove(culprit)
        if attempts >= _MOST_ATTEMPTS:
            held = held[:low]
            break
    return held, excluded
