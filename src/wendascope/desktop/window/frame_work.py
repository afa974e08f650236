"""Work in the background for the shown frame: measuring, proofs, pictures of changes, reports."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Concatenate

from PySide6.QtCore import QObject, Qt, Signal

from wendascope.advice.findings import Finding
from wendascope.desktop.models.commands import Failed, JobName, P, T, Work
from wendascope.desktop.models.document import Document, Workspace
from wendascope.desktop.views.source_view import LONGEST_SECONDS
from wendascope.desktop.window.jobs import JobRunner
from wendascope.errors import CancelledError, WendascopeError
from wendascope.frame.remedy import Remedy
from wendascope.measure.pass_pictures import pass_pictures
from wendascope.measure.pictures import verify
from wendascope.measure.records import Verification
from wendascope.replay.client import Replay, in_force
from wendascope.report.formats import export
from wendascope.report.survey import survey_document
from wendascope.task import Task
from wendascope.texts import plural
from wendascope.trials.proofs.proof import Proof, prove
from wendascope.trials.proofs.prove_all import prove_all
from wendascope.trials.proofs.runs import Beside, picture_of
from wendascope.trials.survey.apart import study_calls, survey_stage
from wendascope.trials.survey.examine import Examined
from wendascope.trials.survey.late_views import bring_what_stays
from wendascope.trials.survey.stages import NAMES, STAGES

_TOLD_AFTER, _TOLD_FROM = 1.0, 0.05
"""Seconds, and a part of the work, from which the time that is left can be told."""


class FrameWork(QObject):
    """Runs jobs for the documents of a workspace, each with a replay process of its own."""

    progress = Signal(str, str, object)
    """Of the measurement of the shown document: what is being done in a word, and in a line; which part of it is done
    (0 to 1), None when nothing is measured."""
    picture_progress = Signal(str, float)
    changed = Signal()
    """Jobs began or ended."""
    failed = Signal(str, str)
    """A title, and what happened and what to do."""
    verified = Signal(object)
    """A Verification of the shown document."""
    difference = Signal(object, str)
    """A Beside to be shown, and its title."""
    report_written = Signal(str)
    _proved = Signal(object, object)
    """A document and a new proof of it, from the thread of its jobs."""

    def __init__(self, workspace: Workspace, parent: QObject) -> None:
        super().__init__(parent)
        self._workspace = workspace
        self._runners: dict[Document, JobRunner] = {}
        self._studied: set[Document] = set()
        self._pictured: set[Document] = set()
        self._proved.connect(lambda document, proof: document.add_proofs([proof]), Qt.ConnectionType.QueuedConnection)
        self._surveys: dict[Document, _Survey] = {}
        """Those that are under way."""
        self._clock = _Clock()

    def runner(self, document: Document) -> JobRunner:
        """The jobs of a document."""
        if document not in self._runners:
            runner = JobRunner(document.path)
            runner.progress.connect(self._on_progress)
            runner.busy.connect(self._on_busy)
            self._runners[document] = runner
        return self._runners[document]

    def close(self, document: Document) -> None:
        """End the jobs of a document that is closed."""
        self._surveys.pop(document, None)
        runner = self._runners.pop(document, None)
        if runner is not None:
            runner.close()

    def close_all(self) -> None:
        for document in list(self._runners):
            self.close(document)

    def measuring(self) -> bool:
        """Whether anything long runs or waits for the shown document."""
        return self.surveying() or self.proving()

    def surveying(self) -> bool:
        """Whether a survey of the shown document is under way."""
        return self._workspace.current in self._surveys

    def proving(self) -> bool:
        """Whether a proof or an experiment of the shown document runs or waits."""
        document = self._workspace.current
        return document is not None and document in self._runners and self._runners[document].pending(JobName.MEASURE)

    def cancel(self) -> None:
        """Stop what is measured of the shown document; what was kept by then stays."""
        document = self._workspace.current
        if document is not None and document in self._runners:
            self._surveys.pop(document, None)
            self._runners[document].cancel(JobName.SURVEY)
            self._runners[document].cancel(JobName.MEASURE)
            self._tell()

    # ---- jobs that views hand over ---------------------------------------------------------------------

    def run_job(self, name: JobName, work: Work[T], done: Callable[[T], None], failed: Failed) -> None:
        """A replay job for the shown document; a later one of the same name takes its place."""
        if self._workspace.current is not None:
            self.runner(self._workspace.current).submit(name, work, done, failed, replaces=True)

    def compute(
        self, name: JobName, done: Callable[[T], None], failed: Failed, function: Callable[Concatenate[Task, P], T],
        *arguments: P.args, **named: P.kwargs,
    ) -> None:  # fmt: skip
        """Call a function in the Python process of the shown document; a later one of the same name takes its place."""
        document = self._workspace.current
        if document is None:
            return
        computing, frame = self.runner(document).computing_of(name), document.frame
        self.run_job(
            name, lambda _replay, task: computing.run(frame, task, function, *arguments, **named), done, failed
        )

    def run_measurement(self, work: Work[T], done: Callable[[T], None], failure: str) -> None:
        """A long job for the shown document, one at a time; it can be cancelled, and `failure` is what is said when
        it fails.
        """
        document = self._workspace.current
        if document is not None and not self.proving():
            self._measure(document, work, done, lambda error: self._fail(failure, error))

    def _measure(self, document: Document, work: Work[T], done: Callable[[T], None], failed: Failed) -> None:
        self.runner(document).submit(JobName.MEASURE, work, done, failed)
        self._tell()

    # ---- measuring and proving -------------------------------------------------------------------------

    def measure(self, resume: bool = False) -> None:
        """Survey the shown frame and keep the result in its file, stage by stage: with `resume`, only what is missing
        of it.
        """
        document = self._workspace.current
        if document is None or self.surveying():
            return
        self._surveys[document] = _Survey(resume)
        self._next_stage(document)

    def _next_stage(self, document: Document) -> None:
        """Queue the next stage of a survey: behind what was asked for meanwhile."""
        survey = self._surveys.get(document)
        if survey is None:
            return
        if survey.over == len(STAGES):
            del self._surveys[document]
            self._tell()
            return
        computing = self.runner(document).computing_of(JobName.SURVEY)

        def work(_replay: Replay, task: Task) -> Examined | None:
            try:
                found = computing.run(
                    document.frame, task, survey_stage, document.frame, document.path, survey.over == 0, survey.resume
                )
            except WendascopeError:
                computing.close()  # with what it had of the survey
                raise
            if survey.over + 1 == len(STAGES):
                computing.close()
            return found

        def done(found: Examined | None) -> None:
            survey.over += 1
            if found is not None:
                document.set_examined(found)
            if self._surveys.get(document) is survey:
                self._next_stage(document)

        def failed(error: Exception) -> None:
            if self._surveys.get(document) is survey:  # else it was stopped, and another one may have begun
                del self._surveys[document]
                self._fail("The frame could not be measured", error)
            self._tell()

        self.runner(document).submit(JobName.SURVEY, work, done, failed, alone=STAGES[survey.over].timed)
        self._tell()

    def prove(self, findings: list[Finding]) -> None:
        """Try the remedies of findings; of several, also all that held as one changed frame."""
        document = self._workspace.current
        if document is not None and findings and not self.proving():
            self._measure(
                document,
                lambda replay, task: self._proofs(document, findings, replay, task),
                document.add_proofs,
                lambda error: self._proof_ended(document, error),
            )

    def _proofs(
        self,
        document: Document,
        findings: list[Finding],
        replay: Replay,
        task: Task,
    ) -> list[Proof]:
        path, frame = document.path, document.frame
        if len(findings) == 1:
            return [prove(path, frame, findings, replay, task=task)]
        again = all(f.id in document.proofs for f in findings)  # else go on where it was stopped
        reached = prove_all(
            path,
            frame,
            findings,
            replay,
            task=task,
            again=again,
            proved=lambda proof: self._proved.emit(document, proof),
        )
        return [*reached.proofs, *([reached.combined] if reached.combined else [])]

    def prove_everything(self) -> None:
        """Try every remedy of the shown document."""
        document = self._workspace.current
        if document is not None:
            self.prove([f for f in document.findings if f.remedy is not None])

    def proof_made(self) -> Callable[[Proof], None]:
        """What work of the shown document calls with each new proof, from whatever thread."""
        document = self._workspace.current
        return lambda proof: self._proved.emit(document, proof)

    def _proof_ended(self, document: Document, error: Exception) -> None:
        document.reload_proofs()  # those done before are kept
        self._fail("The proof could not be run", error)

    def show_difference(self, beside: Beside, title: str) -> None:
        """Hand the picture of a change to whoever shows pictures."""
        self.difference.emit(beside, title)

    def show_changed_picture(self, remedies: list[Remedy], title: str) -> None:
        """Show the finished picture of the changed frame, and where it differs. One whose shaders never end is
        stopped.
        """
        document = self._workspace.current
        if document is None:
            return

        def work(replay: Replay, task: Task) -> Beside:
            bring_what_stays(document.path, document.frame, remedies, replay, task)
            return replay.run(picture_of.asked(remedies), task, LONGEST_SECONDS)

        step = document.selection.step

        def arrived(beside: Beside) -> None:
            if document.selection.step == step:  # else somebody wants to see that step by now
                self.show_difference(beside, title)

        self.run_job(
            JobName.CHANGED_PICTURE,
            work,
            arrived,
            lambda error: self._fail("The changed frame could not be replayed", error),
        )

    # ---- what every frame gets --------------------------------------------------------------------------

    def study(self, document: Document) -> None:
        """Work out what follows from the calls alone, once."""
        if document.structure is not None or document in self._studied:
            return
        self._studied.add(document)
        computing, frame = self.runner(document).computing_of(JobName.STUDY), document.frame
        self.runner(document).submit(
            JobName.STUDY,
            lambda _replay, task: computing.run(frame, task, study_calls, frame, document.accepted, document.drawn),
            document.set_structure,
            lambda error: self._fail("The calls could not be looked at", error),
        )

    def picture_passes(self, document: Document) -> None:
        """Make small pictures of the passes, once. What cannot be replayed has none; others say why."""
        if document in self._pictured:
            return
        self._pictured.add(document)
        self.runner(document).submit(
            JobName.PASS_PICTURES,
            lambda replay, task: replay.run(pass_pictures.asked(), task),
            document.pass_pictures.show,
            lambda _error: None,
        )

    def study_again(self) -> None:
        """Look at every frame anew: what is looked for has changed."""
        self._studied.clear()
        for document in self._workspace.documents:
            document.structure = None
        if self._workspace.current is not None:
            self.study(self._workspace.current)

    def tell_confinement(self, document: Document) -> None:
        """Complete what is said of a stranger's frame by what holds it on this machine, which takes a moment to try."""
        self.runner(document).submit(
            JobName.CONFINEMENT,
            lambda _replay, _task: in_force().sentence,
            lambda sentence: document.set_introduction(
                f"{document.introduction} {sentence}" if document.introduction else ""
            ),
            lambda _error: None,
        )

    def verify(self) -> None:
        """Compare the replay of the shown document with the captured picture."""
        document = self._workspace.current
        if document is not None:
            self.runner(document).submit(
                JobName.VERIFY,
                lambda replay, task: replay.run(verify.asked(), task),
                lambda verification: self._verified(document, verification),
                lambda error: self._fail("The frame could not be replayed", error),
            )

    def _verified(self, document: Document, verification: Verification) -> None:
        document.set_verification(verification)
        self.verified.emit(verification)

    def write_report(self, form_name: str, place: Path) -> None:
        """Write the survey of the shown document in one form."""
        document = self._workspace.current
        if document is None or document.survey is None:
            return
        report = survey_document(
            document.frame,
            document.survey,
            self._workspace.budget_ms,
            document.drawn,
            document.findings,
            document.proofs,
            document.refuted,
        )
        self.runner(document).submit(
            JobName.REPORT,
            lambda _replay, _task: export(form_name, report, place, document.path),
            lambda _done: self.report_written.emit(str(place)),
            lambda error: self._fail("The report was not written", error),
        )

    # ---- news of jobs -----------------------------------------------------------------------------------

    def _fail(self, title: str, error: Exception) -> None:
        """Say why a job failed, unless it was cancelled."""
        if not isinstance(error, CancelledError):
            self.failed.emit(title, str(error))

    def _on_progress(self, job: str, what: str, part: float) -> None:
        if job in (JobName.MEASURE, JobName.SURVEY):
            self._tell(job, what, part)
        elif job == JobName.PICTURE:
            self.picture_progress.emit(what, part)

    def _tell(self, job: str = "", what: str = "", part: float = 0.0) -> None:
        """Say what runs for the shown document, how far it is and how long it takes."""
        document = self._workspace.current
        if document is None or not self.measuring():
            self._clock.stop()
            self.progress.emit("", "", None)
        elif job == JobName.MEASURE:
            self.progress.emit("proving", self._clock.words(what, part), part)
        elif (survey := self._surveys.get(document)) is not None:
            over = survey.over
            stage = NAMES[min(over, len(NAMES) - 1)]
            text = f"stage {over + 1} of {len(NAMES)}, {stage}: {what or 'starting'}"
            waits = " A proof follows." if self.proving() else ""
            self.progress.emit(stage, self._clock.words(text, part) + waits, (over + part) / len(NAMES))
        else:
            self.progress.emit("starting", self._clock.words(what or "starting", part), part)

    def _on_busy(self, job: str, busy: bool) -> None:
        if job in (JobName.MEASURE, JobName.SURVEY):
            self._clock.start()
            self._tell()
        self.changed.emit()


@dataclass
class _Survey:
    """One that is under way."""

    resume: bool
    over: int = 0
    """How many of its stages are over."""


class _Clock:
    """How long what runs will take, by how far it came."""

    def __init__(self) -> None:
        self._began: float | None = None

    def start(self) -> None:
        self._began = time.monotonic()

    def stop(self) -> None:
        self._began = None

    def words(self, what: str, part: float) -> str:
        """What is done, with the time that is left once that can be told."""
        passed = time.monotonic() - self._began if self._began is not None else 0.0
        if passed < _TOLD_AFTER or part < _TOLD_FROM:
            return what
        return f"{what}, about {plural(max(round(passed * (1 - part) / part), 1), 'second')} left"
