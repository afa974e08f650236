"""A survey as a row of stages: each by itself, kept as it ends, limited in time, gone on with later."""

from __future__ import annotations

import shutil
import time
from pathlib import Path
from typing import Any

import pytest

from wendascope import records
from wendascope.advice.findings import Case, Finding, find
from wendascope.advice.findings import _registry as registry
from wendascope.advice.rule import Effort, Rule, Side
from wendascope.errors import CancelledError, ReplayCrashedError, TrialError
from wendascope.frame.file import load
from wendascope.frame.remedy import Remedy
from wendascope.replay.client import Replay
from wendascope.task import QUIET, Task
from wendascope.trials.proofs.outcomes import Outcome
from wendascope.trials.survey import judging, stages
from wendascope.trials.survey.examine import examine_file, stored_caveats
from wendascope.trials.survey.refuting import CANNOT_TRY, DISPROVED, HOLDS, UNTRIED, Tried
from wendascope.trials.survey.stages import DONE, FAILED, NOT_RUN, OUT_OF_TIME, Examination, Stage, SurveyRun

from .conftest import Capture, program
from .raster import RasterFrame, Rasteriser, quad

DATA = Path(__file__).parent.parent / "src" / "wendascope" / "demo" / "data"


@pytest.fixture
def path(tmp_path: Path) -> Path:
    return Path(shutil.copy(DATA / "store.wend", tmp_path / "store.wend"))


class Toy:
    """Stages that note that they ran; what they do is given."""

    def __init__(self, monkeypatch: pytest.MonkeyPatch, **does: Any) -> None:
        self.ran: list[str] = []
        self.kept: list[str] = []
        needs = {"second": ("first",)}
        rows = tuple(
            Stage(
                name, self._run(name, what), self._keep(name), lambda _known, _path: True, needs.get(name, ()),
                seconds=0.2, frames=0, required=name == "required",
            )
            for name, what in does.items()
        )  # fmt: skip
        monkeypatch.setattr(stages, "STAGES", rows)

    def _keep(self, name: str) -> Any:
        return lambda _known, _path: self.kept.append(name)

    def _run(self, name: str, what: Any) -> Any:
        def run(known: Examination) -> None:
            self.ran.append(name)
            if what is not None:
                what(known)

        return run


def _run(known: Examination, **more: Any) -> None:
    run = SurveyRun(known, **more)
    while run.next is not None:
        run.step()


def _examination(path: Path) -> Examination:
    return Examination(load(path), None, 2, path)  # type: ignore[arg-type]


def _raises(error: Exception) -> Any:
    def run(_known: Examination) -> None:
        raise error

    return run


def _waits(known: Examination) -> None:
    while not known.task.cancelled:
        time.sleep(0.01)
    raise CancelledError


def test_a_stage_that_fails_costs_its_own_answers(path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    toy = Toy(monkeypatch, first=_raises(ReplayCrashedError("signal 11", 7)), second=None, third=_waits, fourth=None)
    known = _examination(path)
    _run(known)
    assert [end.state for end in known.ends.values()] == [FAILED, NOT_RUN, OUT_OF_TIME, DONE]
    assert toy.ran == ["first", "third", "fourth"] and toy.kept == ["fourth"]
    told = stored_caveats(path)
    assert len(told) == 2 and "signal 11" in told[0] and "survey --resume" in told[1]


def test_what_is_required_ends_the_survey(path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    Toy(monkeypatch, required=_raises(TrialError("no")), after=None)
    with pytest.raises(TrialError):
        _run(_examination(path))


def test_a_survey_that_is_cancelled_keeps_what_ended_and_goes_on_later(
    path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    toy = Toy(monkeypatch, first=None, second=_waits, third=None)
    known = _examination(path)
    known.task = Task(cancelled=lambda: "second" in toy.ran)
    with pytest.raises(CancelledError):
        _run(known)
    assert toy.kept == ["first"]
    again = Toy(monkeypatch, first=None, second=None, third=None)
    _run(_examination(path), resume=True)
    assert again.ran == ["second", "third"] and again.kept == ["second", "third"]
    anew = Toy(monkeypatch, first=None, second=None, third=None)
    _run(_examination(path), until="second")
    assert anew.ran == ["first", "second"], "without resume all of it is measured"


def test_seconds_limit_them_all(path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    toy = Toy(monkeypatch, first=lambda _known: time.sleep(0.05), second=None)
    known = _examination(path)
    _run(known, seconds=0.01)
    assert toy.ran == ["first"] and known.ends["second"].state == NOT_RUN


def test_a_rule_that_fails_costs_its_own_findings(monkeypatch: pytest.MonkeyPatch) -> None:
    def broken(_case: Case) -> list[Finding]:
        raise IndexError("list index out of range")

    frame = RasterFrame([quad(0, 0, 9, 9, 0.5), quad(0, 0, 9, 9, 0.2)])
    case = Case(frame, Rasteriser(frame).drawn(), None)
    whole = [f.id for f in find(case)]
    rule = Rule("broken", "Time", Side.GPU, Effort.ASSET)
    monkeypatch.setitem(registry._finders, "broken", ((rule,), broken))
    failed: list[str] = []
    assert [f.id for f in find(case, failed)] == whole
    assert len(failed) == 1 and "the rule broken failed" in failed[0] and "IndexError" in failed[0]


class _Refuting:
    """A replay process that gives these answers."""

    def __init__(self, *answers: Tried) -> None:
        self._answers = list(answers)

    def run(self, *_: Any) -> list[Tried]:
        return self._answers


def _claim(identity: str, kind: str, rule: str = "needless-samples") -> Finding:
    return Finding(identity, rule, "4 samples", "", [0], {}, None, "counted", "", "", Remedy(kind, [0]))


def test_nothing_is_called_tried_that_was_not() -> None:
    """Of what only a try stands behind, what there was no time for is not claimed."""
    items = [_claim("a", "one-sample"), _claim("b", "one-sample"), _claim("c", "drop-steps", "not-visible")]
    replay: Any = _Refuting(Tried(UNTRIED), Tried(HOLDS, outcome=Outcome(4, 2)), Tried(UNTRIED))
    left, refuted, caveats = judging.try_claims(items, 1.0, replay, QUIET)
    assert [f.id for f in left] == ["b", "c"] and not refuted
    assert caveats == ["1 claim was not tried for lack of time, and so not made"]
    assert left[0].how_known == "counted; tried in replay: 4 pixels changed by up to 2 of 255"
    assert "tried" not in left[1].how_known and left[1].remedy is not None


def test_what_is_disproved_goes_and_what_cannot_be_made_says_why() -> None:
    items = [_claim("a", "drop-steps", "not-visible"), _claim("b", "simplify-mesh", "too-fine")]
    replay: Any = _Refuting(Tried(DISPROVED, "9 pixels differ"), Tried(CANNOT_TRY, "no buffer holds the mesh"))
    left, refuted, _ = judging.try_claims(items, 1.0, replay, QUIET)
    assert [r.reason for r in refuted] == ["9 pixels differ"]
    assert [(f.id, f.remedy, f.refused) for f in left] == [("b", None, "no buffer holds the mesh")]


@pytest.mark.driver
def test_a_survey_in_two_goes_is_the_whole(capture: Capture, tmp_path: Path) -> None:
    captured, frame = capture(program("wasteful"))
    path = Path(shutil.copy(captured, tmp_path / "w.wend"))
    with Replay(path) as replay:
        first = examine_file(path, 2, replay=replay, until="coverage")
        assert first.drawn is not None and not first.findings and records.DRAWN.newest(path) is not None
        measured = records.SURVEY.newest(path)
        second = examine_file(path, 2, replay=replay, resume=True)
    assert measured is not None and second.survey.frame_ms == measured.frame_ms, "times are not measured twice"
    assert {"not-visible", "outside-view", "unread-pass"} <= {f.rule for f in second.findings}
    log = records.STAGES.newest(path)
    assert log is not None and [end.name for end in log.stages] == list(stages.NAMES)
    assert all(end.state == DONE for end in log.stages) and len(frame.steps) == len(second.survey.steps.ms)


@pytest.mark.driver
@pytest.mark.parametrize("name", [stage.name for stage in stages.STAGES if stage.name not in ("first rules", "rules")])
def test_a_replay_that_is_killed_in_a_stage_costs_that_stage(
    name: str, capture: Capture, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The process ends while it works: what was measured before is in the file, and what does not need it goes on."""
    path = Path(shutil.copy(capture(program("stages"))[0], tmp_path / "stages.wend"))
    now: list[str] = []
    plain_run, plain_job = stages._run, Replay.run
    killed: list[str] = []

    def run(stage: Stage, known: Examination, deadline: float) -> stages.StageEnd:
        now[:] = [stage.name]
        return plain_run(stage, known, deadline)

    def job(self: Replay, *arguments: Any, **named: Any) -> Any:
        if now == [name] and not killed:
            if self._connection is None:
                self._start()
            assert self._process is not None
            killed.append(name)
            self._process.kill()
        return plain_job(self, *arguments, **named)

    monkeypatch.setattr(stages, "_run", run)
    monkeypatch.setattr(Replay, "run", job)
    if name == "times":
        with pytest.raises(ReplayCrashedError) as error:
            examine_file(path, 2)
        assert error.value.exit_code == 6
        assert examine_file(path, 2, resume=True).survey is not None, "the file is whole, and can be surveyed"
        return
    examine_file(path, 2)
    log = records.STAGES.newest(path)
    assert log is not None and records.SURVEY.newest(path) is not None
    state = {end.name: end.state for end in log.stages}
    if killed:
        assert state.pop(name) == FAILED
    needing = {stage.name for stage in stages.STAGES if name in stage.needs} | (
        {"claims"} if name in ("coverage", "rules") else set()
    )
    assert all(value == DONE for other, value in state.items() if other not in needing), log.stages
