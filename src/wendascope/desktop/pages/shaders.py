"""The Shaders page: which programs cost, what in their source does, what limits them, and what a change of it
brings.
"""

from __future__ import annotations

from PySide6.QtCore import QSettings

from wendascope.advice.findings import Finding
from wendascope.analysis.shaders.study import ProgramStudy, shaders_answer
from wendascope.analysis.time.shares import program_parts
from wendascope.desktop.models.commands import JobName
from wendascope.desktop.models.document import Document, Workspace
from wendascope.desktop.pages._following import FramePage
from wendascope.desktop.pages._registry import page
from wendascope.desktop.views.findings_view import FindingsView
from wendascope.desktop.views.iterations_view import IterationsView
from wendascope.desktop.views.limits_view import LimitsView
from wendascope.desktop.views.lines_view import LinesView
from wendascope.desktop.views.programs_table import ProgramRow, ProgramsTable
from wendascope.desktop.views.source_view import SourceView
from wendascope.texts import share
from wendascope.trials.survey.apart import study_programs


@page("Shaders", 60)
class ShadersPage(FramePage):
    """Answer sentence, the table of programs, then source, lines, limits and loops of the chosen one, and findings."""

    guide = "shaders"
    stages = ("reached code",)
    picture_share = 0.5
    under_share = 0.3

    works_hidden = True

    def __init__(self, workspace: Workspace, _settings: QSettings) -> None:
        super().__init__(workspace, "Which shaders cost, and what in them does?")
        self.table = ProgramsTable()
        self.source = SourceView(workspace)
        self.lines = LinesView()
        self.limits = LimitsView(workspace)
        self.iterations = IterationsView(workspace)
        self.findings = FindingsView(workspace, "Shaders")
        parts = [
            ("Source", self.source),
            ("Most expensive lines", self.lines),
            ("What limits it", self.limits),
            ("Iterations", self.iterations),
            ("Findings", self.findings),
        ]
        self.tabs = self.split(self.table, parts)
        self.table.chosen_changed.connect(self._chosen)
        self.lines.line_chosen.connect(self._go_to_line)
        self.findings.chosen_changed.connect(self._finding_chosen)
        self._shown: tuple[object, ...] = ()
        self.studied: list[ProgramStudy] = []
        self.follow()

    def waits_for(self) -> tuple[str, str]:
        document = self._workspace.current
        if document is None or document.survey is None:
            return super().waits_for()
        return "–", "The shaders are being looked at"

    def figure(self) -> str:
        document = self._workspace.current
        if document is None or document.survey is None or not self.studied or document is not self._document:
            return ""
        total = sum(p.ms or 0.0 for p in self.studied)
        return f"{share((self.studied[0].ms or 0.0) / total)}" if total else ""

    def refresh(self, document: Document | None) -> None:
        self.findings.show_document(document)
        if document is None:
            self.say("")
            return
        structure = document.structure
        key = (document, structure, document.survey, document.drawn)
        if key == self._shown:
            return
        self._shown = key
        if structure is None:
            self.say("Looking at the shaders ...")
            return
        self._workspace.jobs.compute(
            JobName.PROGRAMS, lambda found: self._arrived(document, found), lambda error: self.say(str(error)),
            study_programs, document.frame, document.drawn, document.survey,
        )  # fmt: skip

    def _arrived(self, document: Document, found: list[ProgramStudy]) -> None:
        if document is not self._workspace.current:
            return
        self.studied = found
        self.table.show_programs(document, found)
        self.say(*shaders_answer(found), program_parts(found))
        document.changed()  # the rail has its figure now

    def _chosen(self, row: ProgramRow | None) -> None:
        program = row.program if row else None
        self.source.show_program(self._document, program)
        self.lines.show_program(program)
        self.limits.show_program(self._document, program)
        self.iterations.show_program(self._document, program)
        if program is not None and self._document is not None and self.isVisible():
            step = self._document.selection.step
            if step is None or step not in program.steps:
                self._document.selection.choose(program.steps[-1])

    def _go_to_line(self, stage: int, line: int) -> None:
        self.tabs.setCurrentWidget(self.source)
        self.source.show_lines(stage, [line])

    def _finding_chosen(self, finding: Finding | None) -> None:
        if finding is not None and finding.program:
            self.table.choose_program(finding.program)
            self.source.show_lines(finding.stage, finding.lines)
