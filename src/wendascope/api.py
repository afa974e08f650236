"""What scripts may count on: `import wendascope`, and everything in `__all__` here. `docs/api.md` shows it at work.

Names and meanings stay as they are within one `API_VERSION`; what is added does not change it. All else of the package
is ours to change. Arrays are NumPy's, pictures have their top row first, times are milliseconds.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from os import PathLike
from pathlib import Path

import numpy as np
import numpy.typing as npt

from wendascope import records
from wendascope.advice import findings as rules
from wendascope.frame.file import captured_picture, load
from wendascope.measure.lenses import lens_named
from wendascope.measure.pictures import picture_at, verify
from wendascope.measure.statistics import Interval
from wendascope.replay.client import Replay
from wendascope.report.checks import check_forms
from wendascope.report.formats import export as export_form
from wendascope.report.survey import SurveyDocument, survey_document
from wendascope.task import Task
from wendascope.trials.checks.budget import read_budget
from wendascope.trials.checks.checking import Checked, check_files
from wendascope.trials.proofs import proof as proofs
from wendascope.trials.proofs.compare import Comparison, compare_files
from wendascope.trials.survey.examine import examine_file, stored_examination, stored_refuted

__all__ = [
    "API_VERSION", "Checked", "Comparison", "Finding", "Frame", "Interval", "Pass", "Proof", "Step", "check", "compare",
    "open_frame",
]  # fmt: skip
API_VERSION = 1
PathName = str | PathLike[str]
Told = Callable[[str, float], None]
"""Hears what is being done, and how much of it is done, 0 to 1."""


@dataclass(frozen=True)
class Pass:
    """Steps in a row that draw to one target."""

    index: int
    name: str
    role: str
    """What it is for: `shadow`, `main view`, ..."""
    first: int
    end: int
    """Its steps are first, ..., end - 1."""
    width: int
    height: int
    ms: float | None
    """Measured as a whole; None before a survey."""


@dataclass(frozen=True)
class Step:
    """A draw, clear, dispatch, blit or copy."""

    index: int
    name: str
    kind: str
    pass_index: int
    call: int
    program: int
    """By the name that the program gave it; 0 for none."""
    vertices: int
    triangles: int
    instances: int
    ms: float | None
    """Measured alone; None before a survey."""


@dataclass(frozen=True)
class Finding:
    """Something that could be changed."""

    id: str
    rule: str
    title: str
    why: str
    steps: list[int]
    estimate_ms: float | None
    can_be_proved: bool
    state: str
    """What is known of it: `not tried yet`, `saves`, `changes the picture`, ..."""


@dataclass(frozen=True)
class Proof:
    """What replaying the changed frame against the original came to."""

    finding: str
    verdict: str
    saved_ms: Interval | None
    """Of the work; None where it was not measured."""
    submission_saved_ms: Interval | None
    pixels_different: int
    summary: str


def open_frame(path: PathName) -> Frame:
    """A captured frame, or one of a sequence as `FILE#3`. Raises wendascope.errors.FileError."""
    return Frame(Path(path))


class Frame:
    """An open frame. What replays it starts a process when first needed: close it, or use it as a context manager."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self._frame = load(path)
        self._replay: Replay | None = None

    def __enter__(self) -> Frame:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def close(self) -> None:
        """End the replay process."""
        if self._replay is not None:
            self._replay.close()
            self._replay = None

    @property
    def _running(self) -> Replay:
        if self._replay is None:
            self._replay = Replay(self.path)
        return self._replay

    # ---- what it consists of ------------------------------------------------------------------------------

    @property
    def size(self) -> tuple[int, int]:
        """(width, height) of the window."""
        return self._frame.size

    @property
    def passes(self) -> list[Pass]:
        """In the order of the frame."""
        table, survey = self._frame.passes, records.SURVEY.newest(self.path)
        return [
            Pass(
                i, name, self._frame.pass_roles[i].role.value, int(table.first[i]), int(table.end[i]),
                table.targets[i].width, table.targets[i].height, survey.passes[i].ms if survey else None,
            )
            for i, name in enumerate(table.names)
        ]  # fmt: skip

    def steps(self, of: Pass | None = None) -> Iterator[Step]:
        """All steps, or those of a pass."""
        steps, survey = self._frame.steps, records.SURVEY.newest(self.path)
        of_step, names = np.asarray(self._frame.passes.of_step), self._frame.step_names
        for i in range(len(steps)) if of is None else range(of.first, of.end):
            yield Step(
                i, names[i], steps.kind_name(i), int(of_step[i]), int(steps.call[i]), int(steps.program[i]),
                int(steps.vertices[i]), int(steps.triangles[i]), int(steps.instances[i]),
                survey.steps.ms[i] if survey else None,
            )  # fmt: skip

    @property
    def columns(self) -> dict[str, npt.NDArray[np.generic]]:
        """The numbers of all steps as arrays of shape (steps,): `call`, `pass`, `program`, `vertices`, `triangles`,
        `instances`, and after a survey `ms` and, where they were counted, `fragments`.
        """
        steps, survey = self._frame.steps, records.SURVEY.newest(self.path)
        found: dict[str, npt.NDArray[np.generic]] = {
            "call": np.array(steps.call), "pass": np.array(self._frame.passes.of_step),
            "program": np.array(steps.program), "vertices": np.array(steps.vertices),
            "triangles": np.array(steps.triangles), "instances": np.array(steps.instances),
        }  # fmt: skip
        if survey is not None:
            found["ms"] = np.array(survey.steps.ms)
            if survey.fragments is not None:
                found["fragments"] = np.array(survey.fragments)
        return found

    # ---- pictures -----------------------------------------------------------------------------------------

    @property
    def captured(self) -> npt.NDArray[np.uint8] | None:
        """What the program showed, shape (height, width, 4); None where that was not captured."""
        found = captured_picture(self.path)
        return None if found is None else np.ascontiguousarray(found.pixels[::-1])

    def picture(self, step: int | None = None, lens: str = "colour") -> npt.NDArray[np.uint8]:
        """The target after a step, or the finished picture, through a lens (`colour`, `depth`, `layers`, ...), shape
        (height, width, 3). Raises wendascope.errors.ReplayError.
        """
        return np.asarray(lens_named(lens).paint(self._running.run(picture_at.asked(step=step, lens=lens))))

    def verify(self) -> bool:
        """Whether the replay gives the captured picture, every pixel of it. Raises wendascope.errors.ReplayError."""
        return self._running.run(verify.asked()).identical

    # ---- measuring and proving ------------------------------------------------------------------------------

    def survey(self, repeats: int = 12, told: Told | None = None) -> list[Finding]:
        """Measure times and what is drawn, find what to change, and keep it all in the file. Raises
        wendascope.errors.ReplayError.
        """
        examine_file(self.path, repeats, _task(told), self._running)
        return self.findings

    @property
    def findings(self) -> list[Finding]:
        """Of the newest survey, the largest expected gain first; none before one."""
        known = proofs.stored_proofs(self.path)
        return [
            Finding(
                item.id, item.rule, item.title, item.why, list(item.steps), item.estimate_ms, item.remedy is not None,
                proofs.state_of(item, known),
            )
            for item in self._findings
        ]  # fmt: skip

    @property
    def _findings(self) -> Sequence[rules.Finding]:
        return stored_examination(self.path)[1]

    def prove(self, finding: Finding | str, told: Told | None = None) -> Proof:
        """Replay the frame with a finding's change against the original, and keep what came of it. Raises KeyError
        where there is no such finding, wendascope.errors.TrialError where it cannot be tried.
        """
        identity = finding if isinstance(finding, str) else finding.id
        chosen = [item for item in self._findings if item.id == identity]
        if not chosen:
            raise KeyError(identity)
        return _proof(proofs.prove(self.path, self._frame, chosen, self._running, task=_task(told)))

    @property
    def proofs(self) -> list[Proof]:
        """All that the file has."""
        return [_proof(item) for item in proofs.stored_proofs(self.path).values()]

    # ---- telling others -----------------------------------------------------------------------------------

    def export(self, form: str, to: PathName, budget_ms: float = 1000 / 60) -> None:
        """Write the newest survey as `html`, `csv`, `json` or `trace`. Raises ValueError before there is one, and
        wendascope.errors.FileError.
        """
        export_form(form, self._document(budget_ms), Path(to), self.path)

    def _document(self, budget_ms: float) -> SurveyDocument:
        survey, (drawn, found) = records.SURVEY.newest(self.path), stored_examination(self.path)
        if survey is None:
            raise ValueError(f"{self.path.name} was not surveyed yet: call survey() first")
        known = proofs.stored_proofs(self.path)
        return survey_document(self._frame, survey, budget_ms, drawn, found, known, stored_refuted(self.path))


def compare(before: PathName, after: PathName, repeats: int = 12, told: Told | None = None) -> Comparison:
    """Two frames replayed in turns: `frame.difference`, `submit.difference` and those of `passes` with their intervals,
    and `counts`. Raises wendascope.errors.ReplayError.
    """
    return compare_files(Path(before), Path(after), repeats, _task(told))


def check(
    budget: PathName, frames: Sequence[PathName], baseline: PathName | None = None, told: Told | None = None,
    **forms: PathName,
) -> Checked:  # fmt: skip
    """Frames against a budget file: `passed`, and `checks` of each of `frames`. What is given by the name of a form
    (`sarif`, `junit`, `markdown`, `html`) is written. Raises wendascope.errors.FileError, ReplayError.
    """
    path = Path(budget)
    found = check_files(
        [Path(name) for name in frames], read_budget(path), path, Path(baseline) if baseline else None, _task(told)
    )
    for name, to in forms.items():
        check_forms()[name].write(found, Path(to))
    return found


def _proof(item: proofs.Proof) -> Proof:
    return Proof(item.finding, item.verdict, item.saved_ms, item.submit_saved_ms, item.pixels_different, item.summary)


def _task(told: Told | None) -> Task:
    return Task(told) if told is not None else Task()
