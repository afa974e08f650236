"""The whole examination of a frame: its times, what it draws for nothing, and what follows from both."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from pathlib import Path

import msgspec

from wendascope import records
from wendascope.analysis.drawn import Drawn
from wendascope.analysis.findings import Case, Finding, find
from wendascope.analysis.findings.left_out import needless_lights, needless_parts, needless_views
from wendascope.analysis.left_out import LeftOut, LeftOuts
from wendascope.analysis.memory_use import MemoryUse
from wendascope.analysis.over_time import OtherFrames
from wendascope.analysis.remedy import Remedy
from wendascope.errors import TrialError, UsageError
from wendascope.frame import file
from wendascope.frame.frame import Frame
from wendascope.measure.compressible import compressible
from wendascope.measure.drawn import measure_drawn
from wendascope.measure.records import Survey
from wendascope.measure.statistics import median_interval
from wendascope.measure.survey import REPEATS, survey
from wendascope.measure.target_values import target_values
from wendascope.replay.client import Progress, Replay
from wendascope.trials.late_views import other_frames
from wendascope.trials.left_out import find_left_out, try_without
from wendascope.trials.left_out_elsewhere import try_elsewhere
from wendascope.trials.limit_runs import measure_variants
from wendascope.trials.refuting import (
    BATCHES,
    KEPT,
    NEAR_PICTURE,
    ORDERS,
    PICTURE_ONLY,
    REFUTED,
    SAME_PICTURE,
    SHOWN,
    Tried,
    refused_before,
    refute,
)
from wendascope.trials.runs import count_fragments
from wendascope.trials.sampled_levels import sampled_levels
from wendascope.trials.verdicts import small_ms

_REFUSING_SECONDS, _REFUTING_SECONDS = 2.0, 4.0
"""What a survey spends on finding out which remedies cannot be made, and which claims do not hold."""
_REFUTING_FRAMES = 24
"""The second lasts for so many frames at least: of slow ones, a few seconds are none."""

_LEFT_OUT_SECONDS, _LEFT_OUT_FRAMES = 6.0, 16
"""What is spent on trying without single lights and parts of views, or how many frames where they take longer; the
rest is tried when somebody asks for it."""
_LONGEST_FRAME_MS = 4000.0
"""Frames that take longer are not replayed with shaders that note what they read."""
_COMPRESSING_SECONDS = 4.0
_LEFT_OUT_RULES = (needless_lights, needless_views, needless_parts)
_LATE_SECONDS, _LATE_ROUNDS, _SURE = 4.0, 8, 0.99
"""What is spent on trying early depth tests, in rounds of both, and how sure a saving has to be."""


class Refuted(msgspec.Struct):
    """Something that looked worth changing, and that replay showed to be wrong before it was claimed."""

    id: str
    rule: str
    title: str
    reason: str


class StoredFindings(msgspec.Struct):
    """The findings of one examination, as a file keeps them."""

    findings: list[Finding]
    refuted: list[Refuted] = []


@dataclass
class Examined:
    frame: Frame
    survey: Survey
    drawn: Drawn | None
    """None where only times were measured."""
    findings: list[Finding]
    refuted: list[Refuted] = field(default_factory=list)
    left_out: list[LeftOut] = field(default_factory=list)
    """Lights and parts of views, as far as there was time to try without them."""
    memory_use: MemoryUse | None = None
    """None where the frame takes too long for it."""


def examine_file(
    path: Path, repeats: int = REPEATS, progress: Progress = lambda _what, _part: None,
    cancelled: Callable[[], bool] = lambda: False, replay: Replay | None = None,
) -> Examined:  # fmt: skip
    """Measure times and layers of a frame, find what to change, and keep it all in the file.

    A replay process that is already running may be given. Raises any WendascopeError.
    """
    frame = file.load(path)
    own = None if replay else Replay(path)
    try:
        used = replay or own
        assert used is not None
        found = examine(frame, used, repeats, progress, cancelled, path)
    finally:
        if own:
            own.close()
    keep(path, found)
    return found


def case_of(frame: Frame, drawn: Drawn | None, measured: Survey | None, others: OtherFrames | None = None) -> Case:
    """What rules and estimates look at, as far as it was measured."""
    known = drawn or Drawn([], [], [])
    if measured is None:
        return Case(frame, known, None, other_frames=others)
    passes = [p.ms for p in measured.passes]
    times = measured.steps.ms, passes, measured.submit_ms.median, measured.frame_ms.median
    return Case(frame, known, *times, others)


def examine(
    frame: Frame,
    used: Replay,
    repeats: int = REPEATS,
    progress: Progress = lambda _what, _part: None,
    cancelled: Callable[[], bool] = lambda: False,
    path: Path | None = None,
) -> Examined:
    """The same for an open frame, without keeping it. Where `path` names a frame of a sequence, the rest of that is
    looked at as well.
    """
    others = other_frames(path, frame, progress, cancelled) if path else None
    survey = _times(used, repeats, progress, cancelled)
    drawn = used.run(measure_drawn.asked(), progress, cancelled)
    case = case_of(frame, drawn, survey, others)
    seconds = max(_LEFT_OUT_SECONDS, _LEFT_OUT_FRAMES * survey.frame_ms.median / 1000)
    case.left_out = try_without(find_left_out(case), used, seconds, progress, cancelled)
    if path:
        case.left_out = try_elsewhere(path, case.left_out, progress, cancelled)
    case.memory_use = _memory_use(used, survey, progress, cancelled)
    findings = find(case)
    orders = [item for item in findings if item.rule == "back-to-front"]
    worse = _measure_orders(frame, drawn, orders, used, progress, cancelled)
    findings = [item for item in findings if item.id not in worse]
    refused_before(frame, findings, _REFUSING_SECONDS)
    findings, refuted = _refute(findings, survey.frame_ms.median, used, progress, cancelled)
    findings, late = _measure_late_tests(frame, survey, findings, used, progress, cancelled)
    refuted += late
    findings.sort(key=lambda item: (-(item.estimate_ms or 0.0), -item.less_bytes))
    return Examined(frame, survey, drawn, findings, refuted, case.left_out, case.memory_use)


def _memory_use(used: Replay, survey: Survey, progress: Progress, cancelled: Callable[[], bool]) -> MemoryUse | None:
    """Mip levels that are read, values of targets and textures as blocks, unless that takes too long."""
    if survey.frame_ms.median > _LONGEST_FRAME_MS:
        return None
    sampled = used.run(sampled_levels.asked(), progress, cancelled)
    targets = used.run(target_values.asked(), progress, cancelled)
    return MemoryUse(sampled, targets, used.run(compressible.asked(_COMPRESSING_SECONDS), progress, cancelled))


def try_the_rest(
    path: Path,
    found: Examined,
    used: Replay,
    progress: Progress = lambda _what, _part: None,
    cancelled: Callable[[], bool] = lambda: False,
) -> Examined:
    """Try without every light and part of a view that the examination had no time for; what nothing needs becomes a
    finding as well. Kept in the file. Raises FileError, ReplayError, CancelledError.
    """
    case = case_of(found.frame, found.drawn, found.survey)
    case.left_out = try_without(found.left_out or find_left_out(case), used, float("inf"), progress, cancelled)
    case.left_out = try_elsewhere(path, case.left_out, progress, cancelled)
    known = {item.id for item in found.findings} | {item.id for item in found.refuted}
    fresh = [item for rule in _LEFT_OUT_RULES for item in rule(case) if item.id not in known]
    fresh, refuted = _refute(fresh, found.survey.frame_ms.median, used, progress, cancelled)
    findings = sorted([*found.findings, *fresh], key=lambda item: -(item.estimate_ms or 0.0))
    whole = replace(found, findings=findings, refuted=[*found.refuted, *refuted], left_out=case.left_out)
    records.FINDINGS.keep(path, StoredFindings(whole.findings, whole.refuted))
    records.LEFT_OUT.keep(path, LeftOuts(whole.left_out))
    return whole


def try_stored_rest(path: Path, used: Replay, progress: Progress = lambda _what, _part: None) -> None:
    """The same of the newest examination in a file. Raises UsageError where there is none, FileError, ReplayError."""
    survey, (drawn, findings) = records.SURVEY.newest(path), stored_examination(path)
    if survey is None or drawn is None:
        raise UsageError(f"{path.name} was not surveyed yet: run survey first")
    known = Examined(file.load(path), survey, drawn, findings, stored_refuted(path), stored_left_out(path))
    try_the_rest(path, known, used, progress)


def stored_left_out(path: Path) -> list[LeftOut]:
    """Lights and parts of views of the newest examination in a file. Raises FileError."""
    found = records.LEFT_OUT.newest(path)
    return found.items if found else []


def _measure_late_tests(
    frame: Frame,
    survey: Survey,
    findings: list[Finding],
    used: Replay,
    progress: Progress,
    cancelled: Callable[[], bool],
) -> tuple[list[Finding], list[Refuted]]:
    """What testing depth before shading would save is tried: shaders that must test early are timed in turns with
    the captured ones.
    """
    kept: list[Finding] = []
    refuted: list[Refuted] = []
    left = _LATE_SECONDS
    for item in findings:
        programs = (
            sorted({int(frame.steps.program[s]) for s in item.steps} - {0}) if item.rule == "late-depth-test" else []
        )
        seconds = survey.frame_ms.median / 1000 * 2 * (_LATE_ROUNDS + 2)
        if not programs:
            kept.append(item)
            continue
        if seconds > left:
            item.estimate_ms, item.how = None, "not tried in the survey: it would have taken too long"
            kept.append(item)
            continue
        left -= seconds
        variants = [[Remedy("early-test", item.steps, program=p) for p in programs]]
        found = used.run(measure_variants.asked(item.steps, variants, _LATE_ROUNDS), progress, cancelled)
        if found.refused[0]:
            item.estimate_ms, item.how = None, f"not measured: {found.refused[0]}"
            kept.append(item)
            continue
        saved = median_interval(found.ms[0] - found.ms[1], _SURE)
        if saved.low > 0 and saved.median > small_ms(survey.frame_ms.median):
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


def _refute(
    findings: list[Finding], frame_ms: float, used: Replay, progress: Progress, cancelled: Callable[[], bool]
) -> tuple[list[Finding], list[Refuted]]:
    """Try what can be tried cheaply: findings that hold, and those that do not."""
    tried = [
        item
        for item in findings
        if item.remedy is not None and item.remedy.kind in SAME_PICTURE | BATCHES | ORDERS | KEPT | NEAR_PICTURE | SHOWN
    ]
    if not tried:
        return findings, []
    remedies = [item.remedy for item in tried if item.remedy is not None]
    seconds = max(_REFUTING_SECONDS, _REFUTING_FRAMES * frame_ms / 1000)
    found = used.run(refute.asked(remedies, seconds), progress, cancelled)
    refuted = []
    for item, result in zip(tried, found, strict=True):
        if result.state == REFUTED:
            refuted.append(Refuted(item.id, item.rule, item.title, result.reason))
        elif result.remedy is not None:
            _narrow(item, result.remedy)
        elif result.outcome is not None and not result.outcome.same:
            item.evidence["pixels that differ, tried"] = result.outcome.pixels_different
            item.evidence["largest difference of 255"] = result.outcome.max_difference
        _keep_the_picture(item, result)
    gone = {r.id for r in refuted}
    return [item for item in findings if item.id not in gone], refuted


def _keep_the_picture(item: Finding, result: Tried) -> None:
    """Of what stands for another change, what was tried stays as evidence: a proof of it would measure the wrong
    thing.
    """
    reason = PICTURE_ONLY.get(item.remedy.kind, "") if item.remedy else ""
    if reason:
        if result.outcome is not None:
            item.evidence["pixels that differ, tried"] = result.outcome.pixels_different
        item.remedy, item.refused = None, reason


def _narrow(item: Finding, remedy: Remedy) -> None:
    """Let a finding be of those of its steps that it holds for."""
    assert item.remedy is not None
    if remedy.kind != "batch":
        share = len(remedy.steps) / len(item.steps)
        item.title = item.title.replace(
            f"{len(item.steps):,} steps", f"{len(remedy.steps):,} step{'s' if len(remedy.steps) != 1 else ''}"
        )
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


def time_file(
    path: Path,
    repeats: int = REPEATS,
    progress: Progress = lambda _what, _part: None,
    cancelled: Callable[[], bool] = lambda: False,
) -> Examined:
    """Only the times, kept in the file. Raises any WendascopeError."""
    frame = file.load(path)
    with Replay(path) as replay:
        found = Examined(frame, _times(replay, repeats, progress, cancelled), None, [])
    keep(path, found)
    return found


def _times(replay: Replay, repeats: int, progress: Progress, cancelled: Callable[[], bool]) -> Survey:
    return replay.run(survey.asked(repeats), progress, cancelled)


def keep(path: Path, found: Examined) -> None:
    """Write it into the file. Raises FileError."""
    records.SURVEY.keep(path, found.survey)
    if found.drawn is None:
        return
    records.DRAWN.keep(path, found.drawn)
    records.FINDINGS.keep(path, StoredFindings(found.findings, found.refuted))
    records.LEFT_OUT.keep(path, LeftOuts(found.left_out))
    if found.memory_use is not None:
        records.MEMORY_USE.keep(path, found.memory_use)


def _measure_orders(
    frame: Frame, drawn: Drawn, items: list[Finding], replay: Replay, progress: Progress, cancelled: Callable[[], bool]
) -> set[str]:
    """Replay with steps in their better orders and count what passes. Returns the ids of orders that are no better.

    One that cannot be played says why. Runs of different passes do not disturb each other, so they share a replay.
    """
    rounds: dict[int, list[Finding]] = {}
    for item in items:
        index = int(frame.passes.of_step[item.steps[0]])
        number = sum(int(frame.passes.of_step[other.steps[0]]) == index for group in rounds.values() for other in group)
        rounds.setdefault(number, []).append(item)
    worse = set()
    for group in rounds.values():
        try:
            counted = _count(group, replay, progress, cancelled)
        except TrialError:
            for item in group:
                try:
                    alone = _count([item], replay, progress, cancelled)
                except TrialError as error:
                    item.remedy, item.refused = None, str(error)
                    continue
                if not _better(frame, drawn, item, alone):
                    worse.add(item.id)
            continue
        worse |= {item.id for item in group if not _better(frame, drawn, item, counted)}
    return worse


def _count(items: list[Finding], replay: Replay, progress: Progress, cancelled: Callable[[], bool]) -> list[int] | None:
    remedies = [item.remedy for item in items if item.remedy is not None]
    return replay.run(count_fragments.asked(remedies), progress, cancelled)


def _better(frame: Frame, drawn: Drawn, item: Finding, counted: list[int] | None) -> bool:
    """Write down what the order saves; whether it saves anything, or nobody can tell."""
    if counted is None:
        return True
    index = int(frame.passes.of_step[item.steps[0]])
    saved = drawn.passes[index].fragments - counted[index]
    item.evidence["fragments saved by the better order, measured"] = saved
    if item.estimate_ms is not None:
        item.estimate_ms *= max(saved, 0) / max(int(item.evidence["covered later"]), 1)
    return saved > 0


def stored_examination(path: Path) -> tuple[Drawn | None, list[Finding]]:
    """The newest record of what was drawn and the newest findings in a file. Raises FileError."""
    findings = records.FINDINGS.newest(path)
    return records.DRAWN.newest(path), findings.findings if findings else []


def stored_refuted(path: Path) -> list[Refuted]:
    """What the newest examination in a file refuted before it was claimed. Raises FileError."""
    findings = records.FINDINGS.newest(path)
    return findings.refuted if findings else []
