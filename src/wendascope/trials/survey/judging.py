"""What a survey tries of its findings before they are shown: claims, orders, and early depth tests."""

from __future__ import annotations

from collections.abc import Sequence

import msgspec

from wendascope.advice.findings import Finding, Trying
from wendascope.advice.rule import Verify
from wendascope.analysis.geometry.drawn import Drawn
from wendascope.errors import TrialError
from wendascope.frame.frame import Frame
from wendascope.frame.remedy import Remedy
from wendascope.measure.statistics import median_interval
from wendascope.replay.client import Replay
from wendascope.task import Task
from wendascope.texts import plural, verb
from wendascope.trials.experiments.limit_runs import measure_variants
from wendascope.trials.proofs.runs import count_fragments
from wendascope.trials.proofs.verdicts import small_ms
from wendascope.trials.remedies import kind_of
from wendascope.trials.survey.refuting import CANNOT_TRY, DISPROVED, UNTRIED, refute

_SECONDS, _FRAMES = 4.0, 24
"""What a survey spends on finding out which claims do not hold: so long, or so many frames where those take longer."""
_LATE_SECONDS, _LATE_ROUNDS, _SURE = 4.0, 8, 0.99
"""What is spent on trying early depth tests, in rounds of both, and how sure a saving has to be."""


class Refuted(msgspec.Struct):
    """Something that looked worth changing, and that replay showed to be wrong before it was claimed."""

    id: str
    rule: str
    title: str
    reason: str


def try_claims(
    findings: list[Finding], frame_ms: float, used: Replay, task: Task
) -> tuple[list[Finding], list[Refuted], list[str]]:
    """Try what can be tried cheaply: findings that hold, those that do not, and what there was no time for, in words.

    Where nothing but a try stands behind a claim (its remedy stands for another change), what was not tried is not
    claimed.
    """
    tried = [item for item in findings if item.remedy is not None]
    if not tried:
        return findings, [], []
    remedies = [item.remedy for item in tried if item.remedy is not None]
    seconds = max(_SECONDS, _FRAMES * frame_ms / 1000)
    found = used.run(refute.asked(remedies, seconds), task)
    refuted, unclaimed = [], []
    for item, result in zip(tried, found, strict=True):
        assert item.remedy is not None
        if result.state == DISPROVED:
            refuted.append(Refuted(item.id, item.rule, item.title, result.reason))
        elif result.state == CANNOT_TRY:
            item.remedy, item.refused = None, result.reason
            continue
        elif result.state == UNTRIED and kind_of(item.remedy).stands_for:
            unclaimed.append(item)
        elif result.remedy is not None:
            _narrow(item, result.remedy)
        if result.outcome is not None:
            item.tried = Trying(result.outcome.pixels_different, result.outcome.max_difference)
        _keep_the_picture(item)
    gone = {r.id for r in refuted} | {item.id for item in unclaimed}
    left = [item for item in findings if item.id not in gone]
    if not unclaimed:
        return left, refuted, []
    claims = f"{plural(len(unclaimed), 'claim')} {verb(len(unclaimed), 'was', 'were')}"
    return left, refuted, [f"{claims} not tried for lack of time, and so not made"]


def _keep_the_picture(item: Finding) -> None:
    """Of what stands for another change, what was tried stays as evidence: a proof of it would measure the wrong
    thing.
    """
    reason = kind_of(item.remedy).stands_for if item.remedy else ""
    if reason:
        item.remedy, item.refused = None, reason


def _narrow(item: Finding, remedy: Remedy) -> None:
    """Let a finding be of those of its steps that it holds for."""
    assert item.remedy is not None
    if not remedy.parts:
        share = len(remedy.steps) / len(item.steps)
        if item.kept_rule.title is not None:
            item.title = item.kept_rule.title(item.facts.where, len(remedy.steps))
        item.evidence = {
            "steps looked at": len(item.steps),
            "needed after all, by trying": len(item.steps) - len(remedy.steps),
        }
        item.estimate_ms = None if item.estimate_ms is None else item.estimate_ms * share
        item.steps = remedy.steps
    else:
        item.evidence["draws together, in their order"] = len(remedy.parts)
        item.conditions = "in another order the picture changes, by trying: these keep theirs"
    item.remedy = remedy


def measure_late_tests(
    frame: Frame,
    frame_ms: float,
    findings: list[Finding],
    used: Replay,
    task: Task,
) -> tuple[list[Finding], list[Refuted]]:
    """What testing depth before shading would save is tried: shaders that must test early are timed in turns with
    the captured ones.
    """
    kept: list[Finding] = []
    refuted: list[Refuted] = []
    left = _LATE_SECONDS
    for item in findings:
        programs = (
            sorted({int(frame.steps.program[s]) for s in item.steps} - {0})
            if item.kept_rule.verify is Verify.TIMED
            else []
        )
        seconds = frame_ms / 1000 * 2 * (_LATE_ROUNDS + 2)
        if not programs:
            kept.append(item)
            continue
        if seconds > left:
            item.estimate_ms, item.how = None, "not tried in the survey: it would have taken too long"
            kept.append(item)
            continue
        left -= seconds
        variants = [[Remedy("early-test", item.steps, program=p) for p in programs]]
        found = used.run(measure_variants.asked(item.steps, variants, _LATE_ROUNDS), task)
        if found.refused[0]:
            item.estimate_ms, item.how = None, f"not measured: {found.refused[0]}"
            kept.append(item)
            continue
        saved = median_interval(found.ms[0] - found.ms[1], _SURE)
        if saved.low > 0 and saved.median > small_ms(frame_ms):
            item.estimate_ms, item.how = (
                saved.median,
                f"measured with shaders that must test early: {saved.low:.2f} to {saved.high:.2f} ms",
            )
            kept.append(item)
        else:
            refuted.append(
                Refuted(
                    item.id,
                    item.rule,
                    item.title,
                    f"testing early saves {saved.low:.2f} to {saved.high:.2f} ms on this driver",
                )
            )
    return kept, refuted


def measure_orders(
    frame: Frame, drawn: Drawn, findings: Sequence[Finding], replay: Replay, task: Task,
) -> list[Refuted]:  # fmt: skip
    """Replay with steps in their better orders and count what passes. Returns the orders that are no better.

    One that cannot be played says why. Runs of different passes do not disturb each other, so they share a replay.
    """
    items = [item for item in findings if item.kept_rule.verify is Verify.FRAGMENTS and item.remedy is not None]
    rounds: dict[int, list[Finding]] = {}
    for item in items:
        index = int(frame.passes.of_step[item.steps[0]])
        number = sum(int(frame.passes.of_step[other.steps[0]]) == index for group in rounds.values() for other in group)
        rounds.setdefault(number, []).append(item)
    worse: list[Refuted] = []
    for group in rounds.values():
        try:
            counted = _count(group, replay, task)
        except TrialError:
            for item in group:
                try:
                    alone = _count([item], replay, task)
                except TrialError as error:
                    item.remedy, item.refused = None, str(error)
                    continue
                if not _better(frame, drawn, item, alone):
                    worse.append(_no_better(item))
            continue
        worse += [_no_better(item) for item in group if not _better(frame, drawn, item, counted)]
    return worse


def _no_better(item: Finding) -> Refuted:
    return Refuted(item.id, item.rule, item.title, "as many fragments pass in the better order")


def _count(items: list[Finding], replay: Replay, task: Task) -> list[int] | None:
    remedies = [item.remedy for item in items if item.remedy is not None]
    return replay.run(count_fragments.asked(remedies), task)


def _better(frame: Frame, drawn: Drawn, item: Finding, counted: list[int] | None) -> bool:
    """Write down what the order saves; whether it saves anything, or nobody can tell."""
    if counted is None:
        return True
    index = int(frame.passes.of_step[item.steps[0]])
    saved = drawn.passes[index].fragments - counted[index]
    item.evidence["fragments saved by the better order, measured"] = saved
    if item.estimate_ms is not None:
        item.estimate_ms *= max(saved, 0) / max(item.facts.covered, 1)
    return saved > 0
