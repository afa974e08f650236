"""The whole examination of a frame: its times, what it draws for nothing, and what follows from both."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from pathlib import Path

from wendascope import records
from wendascope.advice.findings import Finding
from wendascope.advice.findings.left_out import needless_lights, needless_parts, needless_views
from wendascope.advice.left_out import LeftOut, LeftOuts
from wendascope.analysis.geometry.drawn import Drawn
from wendascope.analysis.memory.memory_use import MemoryUse
from wendascope.errors import UsageError
from wendascope.frame import file
from wendascope.frame.frame import Frame
from wendascope.measure.records import Survey
from wendascope.measure.survey import REPEATS
from wendascope.replay.client import Replay
from wendascope.task import QUIET, Task
from wendascope.trials.survey.judging import Refuted, try_claims
from wendascope.trials.survey.left_out import find_left_out, try_without
from wendascope.trials.survey.left_out_elsewhere import try_elsewhere
from wendascope.trials.survey.stages import (
    NAMES,
    Examination,
    StageEnd,
    StoredFindings,
    SurveyRun,
    case_of,
    caveats_of,
)

__all__ = ["Examined", "Refuted", "StoredFindings", "case_of", "examine", "examine_file"]

_LEFT_OUT_RULES = (needless_lights, needless_views, needless_parts)


@dataclass
class Examined:
    """What a survey found, as far as it went."""

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
    caveats: list[str] = field(default_factory=list)
    """Stages that failed or ran out of time, rules that failed, claims that were not tried."""
    ends: dict[str, StageEnd] = field(default_factory=dict)
    """How each stage ended that is over, by its name."""


def examine_file(
    path: Path, repeats: int = REPEATS, task: Task = QUIET, replay: Replay | None = None, until: str = "",
    seconds: float | None = None, resume: bool = False,
) -> Examined:  # fmt: skip
    """Measure times and layers of a frame, find what to change, and keep each stage in the file as it ends.

    A replay process that is already running may be given. `until` names the last stage, `seconds` limits them all, and
    `resume` goes on where an earlier survey of the file was stopped. Raises any WendascopeError.
    """
    frame = file.load(path)
    own = None if replay else Replay(path)
    try:
        used = replay or own
        assert used is not None
        return examine(frame, used, repeats, task, path, until, seconds, resume)
    finally:
        if own:
            own.close()


def examine(
    frame: Frame, used: Replay, repeats: int = REPEATS, task: Task = QUIET, path: Path | None = None, until: str = "",
    seconds: float | None = None, resume: bool = False, ended: Callable[[Examined], None] = lambda _found: None,
) -> Examined:  # fmt: skip
    """The same for an open frame. Where `path` names a file, each stage is kept there, and where that is a frame of a
    sequence, the rest of it is looked at as well. `ended` hears what is known after each stage.
    """
    if until and until not in NAMES:
        raise UsageError(f"there is no stage {until}; the stages are {', '.join(NAMES)}")
    run = SurveyRun(Examination(frame, used, repeats, path, task), until, seconds, resume)
    while run.next is not None:
        run.step()
        if run.known.survey is not None:
            ended(examined(run.known))
    return examined(run.known)


def examined(known: Examination) -> Examined:
    """What is known so far, once the frame was timed."""
    assert known.survey is not None
    caveats = [*caveats_of(list(known.ends.values())), *known.caveats]
    return Examined(
        known.frame, known.survey, known.drawn, list(known.findings), list(known.refuted), known.left_out,
        known.memory_use, caveats, dict(known.ends),
    )  # fmt: skip


def try_the_rest(
    path: Path,
    found: Examined,
    used: Replay,
    task: Task = QUIET,
) -> Examined:
    """Try without every light and part of a view that the examination had no time for; what nothing needs becomes a
    finding as well. Kept in the file. Raises FileError, ReplayError, CancelledError.
    """
    case = case_of(found.frame, found.drawn, found.survey)
    case.left_out = try_without(found.left_out or find_left_out(case), used, float("inf"), task)
    case.left_out = try_elsewhere(path, case.left_out, task)
    known = {item.id for item in found.findings} | {item.id for item in found.refuted}
    fresh = [item for rule in _LEFT_OUT_RULES for item in rule(case) if item.id not in known]
    fresh, refuted, _ = try_claims(fresh, found.survey.frame_ms.median, used, task)
    findings = sorted([*found.findings, *fresh], key=lambda item: -(item.estimate_ms or 0.0))
    whole = replace(found, findings=findings, refuted=[*found.refuted, *refuted], left_out=case.left_out)
    records.FINDINGS.keep(path, StoredFindings(whole.findings, whole.refuted))
    records.LEFT_OUT.keep(path, LeftOuts(whole.left_out))
    return whole


def try_stored_rest(path: Path, used: Replay, task: Task = QUIET) -> None:
    """The same of the newest examination in a file. Raises UsageError where there is none, FileError, ReplayError."""
    survey, (drawn, findings) = records.SURVEY.newest(path), stored_examination(path)
    if survey is None or drawn is None:
        raise UsageError(f"{path.name} was not surveyed yet: run survey first")
    known = Examined(file.load(path), survey, drawn, findings, stored_refuted(path), stored_left_out(path))
    try_the_rest(path, known, used, task)


def stored_left_out(path: Path) -> list[LeftOut]:
    """Lights and parts of views of the newest examination in a file. Raises FileError."""
    found = records.LEFT_OUT.newest(path)
    return found.items if found else []


def stored_examination(path: Path) -> tuple[Drawn | None, list[Finding]]:
    """The newest record of what was drawn and the newest findings in a file. Raises FileError."""
    findings = records.FINDINGS.newest(path)
    return records.DRAWN.newest(path), findings.findings if findings else []


def stored_refuted(path: Path) -> list[Refuted]:
    """What the newest examination in a file refuted before it was claimed. Raises FileError."""
    findings = records.FINDINGS.newest(path)
    return findings.refuted if findings else []


def stored_ends(path: Path) -> dict[str, StageEnd]:
    """How each stage of the newest survey in a file ended. Raises FileError."""
    log = records.STAGES.newest(path)
    return {end.name: end for end in log.stages} if log else {}


def stored_caveats(path: Path) -> list[str]:
    """What is missing of the newest survey in a file. Raises FileError."""
    return caveats_of(list(stored_ends(path).values()))
