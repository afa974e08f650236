"""All proofs of a frame: the most promising first, as far as the time reaches, then the best set that holds."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from wendascope import records
from wendascope.analysis.findings import Finding
from wendascope.analysis.guidelines import guidelines
from wendascope.analysis.remedy import Remedy
from wendascope.errors import ReplayCrashedError, TrialError
from wendascope.frame.frame import Frame
from wendascope.measure.records import Survey
from wendascope.replay.client import Progress, Replay
from wendascope.trials.proof import (
    COMBINED,
    Proof,
    as_proved,
    compatible,
    in_their_order,
    keep_proof,
    prove,
    stored_proofs,
    touched_passes,
)
from wendascope.trials.runs import outcome_of
from wendascope.trials.verdicts import COSTS, NO_DIFFERENCE, NOISE, REFUSED, SAVES

_MOST_ATTEMPTS = 12
"""Replays spent on finding out which changes exclude each other."""
_PICTURE_RUNS = 4
"""Whole frames that a proof replays besides the span it measures."""


@dataclass(frozen=True)
class AllProofs:
    """Proofs in the order of the findings given, of those that were reached, and the one of all that hold together."""

    proofs: list[Proof]
    combined: Proof | None
    left: list[str]
    """Findings that the time did not reach."""


def in_order_of_promise(frame: Frame, findings: Sequence[Finding], survey: Survey | None) -> list[Finding]:
    """The most milliseconds expected for each second of proving first. What a proof takes is a few runs of the frame
    and many of the passes touched.
    """

    def promise(item: Finding) -> float:
        if survey is None or item.remedy is None:
            return item.estimate_ms or 0.0
        passes = touched_passes(frame, [item.remedy]) or list(range(len(frame.passes)))
        span = sum(survey.passes[i].ms for i in range(min(passes), max(passes) + 1)) if passes else 0.0
        return (item.estimate_ms or 0.0) / (_PICTURE_RUNS * survey.frame_ms.median + 20 * span + 1.0)

    return sorted(findings, key=promise, reverse=True)


def prove_all(
    path: Path, frame: Frame, findings: Sequence[Finding], replay: Replay, seconds: float | None = None,
    progress: Progress = lambda _what, _part: None, cancelled: Callable[[], bool] = lambda: False, unsure: bool = False,
    budget: float | None = None, again: bool = False, proved: Callable[[Proof], None] = lambda _proof: None,
) -> AllProofs:  # fmt: skip
    """A proof of every finding, and one of all that save time together; None where fewer than two do.

    `seconds` limits each proof and `budget` all of them; the guidelines say how much where nothing is given. Findings
    that have a proof already keep it unless `again`; `proved` hears of each new one at once. With `unsure`,
    the combined frame also takes those that keep the picture and of which alone nothing can be told. Raises
    ReplayError, CancelledError.
    """
    limits = guidelines().proofs
    seconds = limits.seconds if seconds is None else seconds
    budget = limits.budget_seconds if budget is None else budget
    known = {} if again else {k: v for k, v in stored_proofs(path).items() if v.verdict != NOISE}
    survey = records.SURVEY.newest(path)
    waiting = [f for f in in_order_of_promise(frame, findings, survey) if f.id not in known]
    made: dict[str, Proof] = {f.id: known[f.id] for f in findings if f.id in known}
    started = time.monotonic()
    for number, item in enumerate(waiting):
        spent = time.monotonic() - started
        if spent > budget:
            break
        rest = min(spent / number * (len(waiting) - number) if number else 0.0, budget - spent)

        def told(what: str, part: float, number: int = number, rest: float = rest) -> None:
            left = f", about {rest:.0f} s left" if number else ""
            progress(f"proof {number + 1} of {len(waiting)}{left}: {what}", (number + part) / (len(waiting) + 1))

        try:
            made[item.id] = prove(path, frame, [item], replay, seconds, told, cancelled)
        except ReplayCrashedError as error:  # the next one gets a new process
            made[item.id] = Proof(item.id, REFUSED, f"replaying it ends the driver: {error}")
            keep_proof(path, made[item.id])
        proved(made[item.id])
    proofs = [made[f.id] for f in findings if f.id in made]
    combined = _combined(path, frame, findings, made, replay, seconds, progress, cancelled, unsure)
    return AllProofs(proofs, combined, [f.id for f in findings if f.id not in made])


def _combined(
    path: Path, frame: Frame, findings: Sequence[Finding], made: Mapping[str, Proof], replay: Replay, seconds: float,
    progress: Progress, cancelled: Callable[[], bool], unsure: bool,
) -> Proof | None:  # fmt: skip
    """The best set that holds: what changes the picture among others, or costs time with them, is left out."""
    taken = {SAVES, NO_DIFFERENCE, NOISE} if unsure else {SAVES}
    candidates = [as_proved(f, made[f.id]) for f in findings if f.id in made and made[f.id].verdict in taken]
    chosen = compatible(candidates)
    excluded = [f"{f.title}: wants the same steps as another" for f in candidates if f not in chosen]
    chosen.sort(key=lambda f: -(made[f.id].gain_ms or 0.0))

    def told(what: str, part: float) -> None:
        progress(f"all together: {what}", part)

    held, out = _holding(frame, chosen, replay, told, cancelled)
    excluded += out
    if len(held) < 2:
        return None
    proof = prove(path, frame, held, replay, 2 * seconds, told, cancelled, COMBINED)
    if proof.verdict == COSTS:
        halves = held[: max(len(held) // 2, 2)]  # those that save most alone
        again = prove(path, frame, halves, replay, 2 * seconds, told, cancelled, COMBINED) if halves != held else proof
        if again.verdict != COSTS:
            excluded += [f"{f.title}: costs time with the others" for f in held if f not in halves]
            proof = again
    if excluded:
        proof.excluded = excluded
        keep_proof(path, proof)
    return proof


def _holding(
    frame: Frame, chosen: list[Finding], replay: Replay, told: Progress, cancelled: Callable[[], bool]
) -> tuple[list[Finding], list[str]]:
    """Those that keep the picture together, and what was left out with the reason: the first that does not hold with
    all before it is found by halving.
    """
    held, excluded, attempts = list(chosen), [], 0

    def holds(some: Sequence[Finding]) -> bool:
        nonlocal attempts
        attempts += 1
        told(f"looking for changes that exclude each other, attempt {attempts}", attempts / _MOST_ATTEMPTS)
        try:
            remedies: list[Remedy] = in_their_order([f.remedy for f in some if f.remedy])
            return replay.run(outcome_of.asked(remedies), told, cancelled).same
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
