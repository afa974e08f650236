"""The survey of a frame as a row of stages: each by itself, limited in time, kept in the file as it ends.

A stage that fails, or for which the time runs out, costs its own answers: what was measured before stays, what does not
need it goes on, and the survey says what is missing and why. A later survey can go on where one was stopped.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import msgspec

from wendascope import records
from wendascope.advice.findings import Case, Finding, find
from wendascope.advice.left_out import LeftOut, LeftOuts
from wendascope.analysis.geometry.drawn import Drawn
from wendascope.analysis.memory.memory_use import MemoryUse
from wendascope.analysis.memory.texture_facts import TextureFacts
from wendascope.analysis.sequence.over_time import OtherFrames
from wendascope.analysis.shaders.reached_code import ReachedCode
from wendascope.errors import CancelledError, ReplayError, TrialError
from wendascope.frame.frame import Frame
from wendascope.measure.compressible import compressible
from wendascope.measure.drawn import measure_drawn
from wendascope.measure.records import Survey
from wendascope.measure.survey import survey
from wendascope.measure.target_values import target_values
from wendascope.measure.times import fragments
from wendascope.replay.client import Replay
from wendascope.task import QUIET, Task
from wendascope.trials.survey.judging import Refuted, measure_late_tests, measure_orders, try_claims
from wendascope.trials.survey.late_views import other_frames
from wendascope.trials.survey.left_out import find_left_out, try_without
from wendascope.trials.survey.left_out_elsewhere import try_elsewhere
from wendascope.trials.survey.reached_code import reached_code
from wendascope.trials.survey.sampled_levels import sampled_levels

_LEFT_OUT_SECONDS, _LEFT_OUT_FRAMES = 4.0, 10
"""What is spent on trying without single lights and parts of views, or how many frames where they take longer; the
rest is tried when somebody asks for it."""
_LONGEST_FRAME_MS = 4000.0
"""Frames that take longer are not replayed with shaders that note what they read."""
_COMPRESSING_SECONDS = 4.0
DONE, FAILED, OUT_OF_TIME, NOT_RUN = "done", "failed", "out of time", "not run"


class StageEnd(msgspec.Struct):
    """How a stage of a survey ended."""

    name: str
    state: str
    """`done`, `failed`, `out of time` or `not run`."""
    seconds: float = 0.0
    reason: str = ""

    @property
    def caveat(self) -> str:
        """What to say of it; empty where it is done."""
        if self.state == DONE:
            return ""
        return f"the stage \u201c{self.name}\u201d of the survey: {self.state}" + (
            f" ({self.reason})" if self.reason else ""
        )


class StageLog(msgspec.Struct):
    """How the stages of the newest survey ended, as a file keeps it."""

    stages: list[StageEnd]


class StoredFindings(msgspec.Struct):
    """The findings of one examination, as a file keeps them."""

    findings: list[Finding]
    refuted: list[Refuted] = []

    def fits(self, frame: Frame) -> bool:
        """Whether they can be of that frame."""
        return all(0 <= step < len(frame.steps) for finding in self.findings for step in finding.steps)


def case_of(frame: Frame, drawn: Drawn | None, measured: Survey | None, others: OtherFrames | None = None) -> Case:
    """What rules and estimates look at, as far as it was measured."""
    known = drawn or Drawn([], [], [])
    if measured is None:
        return Case(frame, known, None, other_frames=others)
    passes = [p.ms for p in measured.passes]
    times = measured.steps.ms, passes, measured.submit_ms.median, measured.frame_ms.median
    return Case(frame, known, *times, others)


@dataclass
class Examination:
    """What a survey knows so far, and what its stages work with."""

    frame: Frame
    replay: Replay
    repeats: int
    path: Path | None
    """Of the file that it is kept in; None where it is not kept."""
    task: Task = QUIET
    others: OtherFrames | None = None
    survey: Survey | None = None
    drawn: Drawn | None = None
    left_out: list[LeftOut] = field(default_factory=list)
    memory_use: MemoryUse | None = None
    reached: ReachedCode | None = None
    texture_facts: list[TextureFacts] | None = None
    """As the rules read them first."""
    findings: list[Finding] = field(default_factory=list)
    refuted: list[Refuted] = field(default_factory=list)
    caveats: list[str] = field(default_factory=list)
    """What rules failed, and what was not tried for lack of time."""
    ends: dict[str, StageEnd] = field(default_factory=dict)

    @property
    def frame_ms(self) -> float:
        """Of the whole frame, once it was timed."""
        return self.survey.frame_ms.median if self.survey else 0.0

    @property
    def case(self) -> Case:
        case = case_of(self.frame, self.drawn, self.survey, self.others)
        case.left_out, case.memory_use, case.reached = self.left_out, self.memory_use, self.reached
        if self.texture_facts is not None:
            case.texture_facts = self.texture_facts
        return case


@dataclass(frozen=True)
class Stage:
    """One part of a survey. `keep` writes what it found into the file of the examination, `recall` takes it from there,
    and says whether there was any.
    """

    name: str
    run: Callable[[Examination], None]
    keep: Callable[[Examination, Path], None] = lambda _known, _path: None
    recall: Callable[[Examination, Path], bool] = lambda _known, _path: False
    needs: tuple[str, ...] = ()
    """Stages without which it has nothing to say."""
    seconds: float = 60.0
    frames: int = 60
    """It may take so long, and so many times the frame's own time."""
    required: bool = False
    """Whether the survey ends where it fails."""
    timed: bool = False
    """Whether it reads clocks, so that nothing else may run on this machine meanwhile."""


# ---- what stages do ------------------------------------------------------------------------------------------


def _sequence(known: Examination) -> None:
    if known.path is not None:
        known.others = other_frames(known.path, known.frame, known.task)


def _times(known: Examination) -> None:
    known.survey = known.replay.run(survey.asked(known.repeats), known.task)


def _coverage(known: Examination) -> None:
    known.drawn = known.replay.run(measure_drawn.asked(), known.task)
    assert known.survey is not None
    known.survey.fragments = known.replay.run(fragments.asked())  # counted by then


def _without(known: Examination) -> None:
    seconds = max(_LEFT_OUT_SECONDS, _LEFT_OUT_FRAMES * known.frame_ms / 1000)
    known.left_out = try_without(find_left_out(known.case), known.replay, seconds, known.task)
    if known.path is not None:
        known.left_out = try_elsewhere(known.path, known.left_out, known.task)


def _memory(known: Examination) -> None:
    if known.frame_ms > _LONGEST_FRAME_MS:
        raise TrialError(
            f"the frame takes {known.frame_ms / 1000:.1f} s: its shaders are not made to note what they read"
        )
    sampled = known.replay.run(sampled_levels.asked(), known.task)
    targets = known.replay.run(target_values.asked(), known.task)
    blocks = known.replay.run(compressible.asked(_COMPRESSING_SECONDS), known.task)
    known.memory_use = MemoryUse(sampled, targets, blocks)


def _reached(known: Examination) -> None:
    known.reached = known.replay.run(reached_code.asked(), known.task)


def _rules(known: Examination) -> None:
    failed: list[str] = []
    known.task.progress("looking for what could be changed", 0.0)
    case = known.case
    known.findings = find(case, failed)
    known.texture_facts = case.texture_facts
    known.refuted = []
    known.caveats = failed


def _claims(known: Examination) -> None:
    assert known.drawn is not None
    task = known.task
    worse = measure_orders(known.frame, known.drawn, known.findings, known.replay, task)
    known.findings = [item for item in known.findings if item.id not in {r.id for r in worse}]
    known.findings, refuted, untried = try_claims(known.findings, known.frame_ms, known.replay, task)
    known.findings, late = measure_late_tests(known.frame, known.frame_ms, known.findings, known.replay, task)
    known.refuted += [*worse, *refuted, *late]
    known.caveats += untried
    known.findings.sort(key=lambda item: (-(item.estimate_ms or 0.0), -item.less_bytes))


# ---- what the file keeps of them -----------------------------------------------------------------------------


def _keep_times(known: Examination, path: Path) -> None:
    assert known.survey is not None
    records.SURVEY.keep(path, known.survey)


def _recall_times(known: Examination, path: Path) -> bool:
    found = records.SURVEY.newest(path)
    if found is None:
        return False
    known.survey = found
    return True


def _keep_coverage(known: Examination, path: Path) -> None:
    assert known.drawn is not None
    records.DRAWN.keep(path, known.drawn)
    _keep_times(known, path)  # with the driver's own count of fragments


def _recall_coverage(known: Examination, path: Path) -> bool:
    found = records.DRAWN.newest(path)
    if found is None:
        return False
    known.drawn = found
    return True


def _keep_without(known: Examination, path: Path) -> None:
    records.LEFT_OUT.keep(path, LeftOuts(known.left_out))


def _recall_without(known: Examination, path: Path) -> bool:
    found = records.LEFT_OUT.newest(path)
    known.left_out = found.items if found else []
    return found is not None


def _kept_as(
    kind: records.RecordKind[Any], name: str
) -> tuple[Callable[[Examination, Path], None], Callable[[Examination, Path], bool]]:
    """(keep, recall) of what an examination has in one attribute and a file as the newest record of one kind."""

    def keep(known: Examination, path: Path) -> None:
        kind.keep(path, getattr(known, name))

    def recall(known: Examination, path: Path) -> bool:
        setattr(known, name, kind.newest(path))
        return getattr(known, name) is not None

    return keep, recall


def _keep_claims(known: Examination, path: Path) -> None:
    records.FINDINGS.keep(path, StoredFindings(known.findings, known.refuted))


def _recall_claims(known: Examination, path: Path) -> bool:
    found = records.FINDINGS.newest(path)
    if found is None:
        return False
    known.findings, known.refuted = found.findings, found.refuted
    return True


STAGES: tuple[Stage, ...] = (
    Stage("times", _times, _keep_times, _recall_times, seconds=600.0, frames=200, required=True, timed=True),
    Stage("coverage", _coverage, _keep_coverage, _recall_coverage, ("times",), seconds=300.0, frames=200),
    # what follows from coverage is there early; the same rules know more later
    Stage("first rules", _rules, needs=("coverage",)),
    # the other frames are asked for from the file each time, where they are kept
    Stage("sequence", _sequence, seconds=600.0, frames=600),
    Stage("left out", _without, _keep_without, _recall_without, ("coverage",), seconds=30.0, frames=40),
    Stage("memory", _memory, *_kept_as(records.MEMORY_USE, "memory_use"), ("times",), seconds=60.0, frames=40),
    Stage("reached code", _reached, *_kept_as(records.REACHED, "reached"), ("times",), seconds=60.0, frames=40),
    # rules look at what is there, which takes no replay: only what was tried of them is worth keeping
    Stage("rules", _rules, needs=("coverage",)),
    Stage("claims", _claims, _keep_claims, _recall_claims, ("coverage", "rules"), seconds=40.0, frames=80, timed=True),
)
"""In the order in which they run."""
NAMES = tuple(stage.name for stage in STAGES)


class SurveyRun:
    """A survey that is gone through stage by stage, up to `until` (all of them unless given), for so many seconds at
    most; each is kept as it ends. With `resume`, what an earlier survey of the file got done is taken from there.
    """

    def __init__(self, known: Examination, until: str = "", seconds: float | None = None, resume: bool = False) -> None:
        self.known = known
        self._deadline = time.monotonic() + seconds if seconds is not None else float("inf")
        self._before = _earlier(known.path) if resume and known.path is not None else {}
        names = [stage.name for stage in STAGES]
        self._left = list(STAGES[: names.index(until) + 1] if until else STAGES)

    @property
    def next(self) -> Stage | None:
        """The stage that comes next; None once all are over."""
        return self._left[0] if self._left else None

    def step(self) -> StageEnd:
        """Run the next stage. Raises what a required stage raises, FileError, and CancelledError where somebody
        cancelled: what was kept by then stays.
        """
        known, stage = self.known, self._left.pop(0)
        recalled = self._before.get(stage.name) == DONE
        if known.path is not None and recalled and stage.recall(known, known.path):
            end = StageEnd(stage.name, DONE)
        else:
            end = _run(stage, known, self._deadline)
        known.ends[stage.name] = end
        if known.path is not None:
            if end.state == DONE and not recalled:
                stage.keep(known, known.path)
            if end.state != DONE and stage.name == "claims" and known.findings:
                stage.keep(known, known.path)  # as far as the rules got
            records.STAGES.keep(known.path, StageLog(list(known.ends.values())))
        return end


def _earlier(path: Path) -> dict[str, str]:
    log = records.STAGES.newest(path)
    return {end.name: end.state for end in log.stages} if log else {}


def _run(stage: Stage, known: Examination, deadline: float) -> StageEnd:
    missing = [name for name in stage.needs if known.ends[name].state != DONE]
    if missing:
        return StageEnd(stage.name, NOT_RUN, reason=f"it needs the stage {missing[0]}")
    if time.monotonic() > deadline:
        return StageEnd(stage.name, NOT_RUN, reason="the time that was given was over")
    began, asked = time.monotonic(), known.task
    limit = min(began + max(stage.seconds, stage.frames * known.frame_ms / 1000), deadline)
    known.task = asked.until(lambda: time.monotonic() > limit)
    try:
        stage.run(known)
    except CancelledError:
        if asked.cancelled or stage.required:
            raise
        return StageEnd(stage.name, OUT_OF_TIME, time.monotonic() - began, "survey --resume tries it again")
    except (ReplayError, TrialError) as error:
        if stage.required:
            raise
        return StageEnd(stage.name, FAILED, time.monotonic() - began, str(error))
    finally:
        known.task = asked
    return StageEnd(stage.name, DONE, time.monotonic() - began)


def caveats_of(ends: Sequence[StageEnd]) -> list[str]:
    """What is missing of a survey, a sentence each."""
    return [end.caveat for end in ends if end.caveat and end.state != NOT_RUN]
