"""Work in the background for the shown frame: measuring, proofs, pictures of changes, reports."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QObject, Qt, Signal

from wendascope.advice.findings import Finding
from wendascope.analysis.draws.structure import study
from wendascope.desktop.models.commands import Failed, JobName, T, Work
from wendascope.desktop.models.document import Document, Workspace
from wendascope.desktop.views.source_view import LONGEST_SECONDS
from wendascope.desktop.window.jobs import JobRunner
from wendascope.errors import CancelledError
from wendascope.frame.remedy import Remedy
from wendascope.measure.pass_pictures import pass_pictures
from wendascope.measure.pictures import verify
from wendascope.measure.records import Verification
from wendascope.measure.survey import REPEATS
from wendascope.replay.client import Replay, in_force
from wendascope.report.formats import export
from wendascope.report.survey import survey_document
from wendascope.task import Task
from wendascope.trials.proofs.proof import Proof, prove
from wendascope.trials.proofs.prove_all import prove_all
from wendascope.trials.proofs.runs import Beside, picture_of
from wendascope.trials.survey.examine import Examined, examine
from wendascope.trials.survey.late_views import bring_what_stays


class FrameWork(QObject):
    """Runs jobs for the documents of a workspace, each with a replay process of its own."""

    progress = Signal(str, object)
    """Of the measurement of the shown document: what is being done, and which part of it is done (0 to 1); None when
    it has ended."""
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
    _stage_ended = Signal(object, object)
    """A document and what is known of it after a stage of its survey, from the thread of its jobs."""

    def __init__(self, workspace: Workspace, parent: QObject) -> None:
        super().__init__(parent)
        self._workspace = workspace
        self._runners: dict[Document, JobRunner] = {}
        self._studied: set[Document] = set()
        self._pictured: set[Document] = set()
        self._proved.connect(lambda document, proof: document.add_proofs([proof]), Qt.ConnectionType.QueuedConnection)
        self._stage_ended.connect(
            lambda document, found: document.set_examined(found), Qt.ConnectionType.QueuedConnection
        )

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
        runner = self._runners.pop(document, None)
        if runner is not None:
            runner.close()

    def close_all(self) -> None:
        for document in list(self._runners):
            self.close(document)

    def measuring(self) -> bool:
        """Whether the shown document is being measured."""
        document = self._workspace.current
        return document is not None and document in self._runners and self._runners[document].running(JobName.MEASURE)

    def cancel(self) -> None:
        """Stop the measurement of the shown document."""
        document = self._workspace.current
        if document is not None and document in self._runners:
            self._runners[document].cancel(JobName.MEASURE)

    # ---- jobs that views hand over ---------------------------------------------------------------------

    def run_job(self, name: JobName, work: Work[T], done: Callable[[T], None], failed: Failed) -> None:
        """A replay job for the shown document; a later one of the same name takes its place."""
        if self._workspace.current is not None:
            self.runner(self._workspace.current).submit(name, work, done, failed, replaces=True)

    def run_measurement(self, work: Work[T], done: Callable[[T], None], failure: str) -> None:
        """A long job for the shown document, one at a time; it can be cancelled, and `failure` is what is said when
        it fails.
        """
        document = self._workspace.current
        if document is not None and not self.measuring():
            self._measure(document, work, done, lambda error: self._fail(failure, error))

    def _measure(self, document: Document, work: Work[T], done: Callable[[T], None], failed: Failed) -> None:
        self.progress.emit("starting", 0.0)
        self.runner(document).submit(JobName.MEASURE, work, done, failed)

    # ---- measuring and proving -------------------------------------------------------------------------

    def measure(self) -> None:
        """Survey the shown frame and keep the result in its file."""
        document = self._workspace.current
        if document is not None:

            def work(replay: Replay, task: Task) -> Examined:
                return examine(
                    document.frame, replay, REPEATS, task, document.path,
                    ended=lambda found: self._stage_ended.emit(document, found),
                )  # fmt: skip

            self.run_measurement(
                work,
                document.set_examined,
                "The frame could not be measured",
            )

    def prove(self, findings: list[Finding]) -> None:
        """Try the remedies of findings; of several, also all that held as one changed frame."""
        document = self._workspace.current
        if document is not None and findings and not self.measuring():
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

        self.run_job(
            JobName.CHANGED_PICTURE,
            work,
            lambda beside: self.show_difference(beside, title),
            lambda error: self._fail("The changed frame could not be replayed", error),
        )

    # ---- what every frame gets --------------------------------------------------------------------------

    def study(self, document: Document) -> None:
        """Work out what follows from the calls alone, once."""
        if document.structure is not None or document in self._studied:
            return
        self._studied.add(document)
        self.runner(document).submit(
            JobName.STUDY,
            lambda _replay, _task: study(document.frame, document.accepted, document.drawn),
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
        if job == JobName.MEASURE and self.measuring():
            self.progress.emit(what, part)
        elif job == JobName.PICTURE:
            self.picture_progress.emit(what, part)

    def _on_busy(self, job: str, busy: bool) -> None:
        if job == JobName.MEASURE and not busy:
            self.progress.emit("", None)
        self.changed.emit()
