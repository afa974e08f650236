"""The Plan page: what to change first, what each change brings, and whether the budget is reached."""

from __future__ import annotations

from PySide6.QtCore import QSettings, QTimer
from PySide6.QtGui import QShowEvent
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QWidget

from wendascope.advice.findings import Finding
from wendascope.advice.recommend import Recommendation, Section
from wendascope.desktop.charts.waterfall import row_of
from wendascope.desktop.models.document import Document, Workspace
from wendascope.desktop.pages._following import FramePage
from wendascope.desktop.pages._registry import page
from wendascope.desktop.views.plan_details import PlanDetails
from wendascope.desktop.views.plan_list import PlanGroup, PlanList, PlanRow
from wendascope.texts import capital, memory, three_digits
from wendascope.trials.plan import Plan, make_plan, prove_plan, recommendations_of

_TITLES = {
    Section.TIME: "Same picture",
    Section.QUALITY: "Picture differs",
    Section.MEMORY: "Memory",
    Section.NOTHING: "No gain, small, or part of another",
}
_REST_MS = 400
"""A row that is passed over is not replayed."""
_LONGEST_MS = 1500.0
"""Frames that take longer are shown with a change only when somebody asks for it."""


@page("Plan", -5)
class PlanPage(FramePage):
    """The sentence and the list; the chosen row stands beside it, with its pictures above."""

    guide = "over-budget"
    works_hidden = True
    stages = ("coverage", "rules", "claims")
    picture_share = 0.42
    under_share = 0.55

    def __init__(self, workspace: Workspace, _settings: QSettings) -> None:
        super().__init__(workspace, "What should be changed first, and does it reach the budget?")
        self.list = PlanList()
        self.details = PlanDetails(workspace)
        self.prove = QPushButton("Prove this plan")
        self.prove.setToolTip("Replay the frame with each change, then with all that held, against the original")
        buttons = QHBoxLayout()
        buttons.addWidget(self.prove)
        buttons.addStretch(1)
        self.room.addWidget(self.list, 1)
        self.room.addLayout(buttons)
        self._not_ticked: dict[str, set[str]] = {}
        """File -> recommendations that are not ticked."""
        self._found: list[Recommendation] = []
        self._plan: Plan | None = None
        self._shown: tuple[object, ...] = ()
        self._looked: tuple[object, ...] = ()
        self._rest = QTimer(self)
        self._rest.setSingleShot(True)
        self._rest.setInterval(_REST_MS)
        self._rest.timeout.connect(self._look_at_chosen)
        self.list.chosen.connect(self._tell)
        self.list.ticked.connect(self.toggle)
        self.prove.clicked.connect(self._prove)
        self.details.prove.connect(self._prove_chosen)
        self.details.look.connect(self._look)
        workspace.listen(self._document_changed)
        self.follow()

    def beside(self) -> QWidget | None:
        return self.details

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        self._rest.start()

    def figure(self) -> str:
        plan = self._plan
        if plan is None or not plan.steps:
            return ""
        return f"{max(plan.gpu_after, plan.cpu_after):.1f} ms"

    def refresh(self, document: Document | None) -> None:
        shown = (
            (document, document.survey, len(document.findings), len(document.proofs), self._workspace.budget_ms)
            if document
            else ()
        )
        if shown == self._shown:
            return
        self._shown = shown
        self._found, self._plan = [], None
        if document is None:
            self.say("")
        elif document.survey is None or document.drawn is None:
            self.say("Not measured yet.", "Press Ctrl+M to measure the frame and see what to change first.")
        else:
            self._found = recommendations_of(document.case, document.findings, document.proofs)
        self._fill()

    # ---- what is shown --------------------------------------------------------------------------------

    @property
    def _unticked(self) -> set[str]:
        return self._not_ticked.get(str(self._document.path), set()) if self._document else set()

    @property
    def chosen_for_plan(self) -> list[Recommendation]:
        """The recommendations that are ticked, in their order."""
        return [item for item in self._found if not item.small and item.id not in self._unticked]

    def _fill(self) -> None:
        document = self._document
        if document is not None and document.survey is not None and document.drawn is not None:
            now = document.survey.frame_ms.median, document.survey.submit_ms.median
            budget = self._workspace.budget_ms
            own, chosen = document.survey.cpu.program_ms, self.chosen_for_plan
            self._plan = make_plan(document.case, now, chosen, document.findings, document.proofs, budget, own)
            elsewhere = [f"{capital(sentence)}." for sentence in document.elsewhere]
            self.say(capital(self._plan.sentence), " ".join(filter(None, [self._plan.rest, *elsewhere])))
        self.list.show_groups(self._plan, self._groups())
        self.prove.setEnabled(bool(self._found))

    def _groups(self) -> list[PlanGroup]:
        plan = self._plan
        if plan is None:
            return []
        bars = {step.recommendation: row_of(step) for step in plan.steps}
        order = {identity: number for number, identity in enumerate(bars)}
        rows: dict[Section, list[PlanRow]] = {section: [] for section in _TITLES}
        for item in self._found:
            section = Section.NOTHING if item.small else item.section
            rows[section].append(PlanRow(item, item.id not in self._unticked, bars.get(item.id)))
        rows[Section.TIME].sort(key=lambda row: order.get(row.item.id, len(order)))
        saved = plan.now_ms - max(plan.gpu_after, plan.cpu_after)
        less = sum(row.item.less_bytes for row in rows[Section.MEMORY])
        totals = {
            Section.TIME: f"{three_digits(saved)} ms proved" if plan.proved else "nothing proved yet",
            Section.MEMORY: f"up to {memory(less)}" if less else "",
        }
        return [
            PlanGroup(section, f"{title}: {len(rows[section])}", rows[section], totals.get(section, ""),
                      section in (Section.TIME, Section.QUALITY))
            for section, title in _TITLES.items()
            if rows[section]
        ]  # fmt: skip

    def choose(self, recommendation: str) -> None:
        """Choose a recommendation, whatever group it is in."""
        self.list.choose(recommendation)

    def toggle(self, recommendation: str) -> None:
        """Leave a recommendation out of the plan, or take it back in."""
        if self._document is not None:
            self._not_ticked.setdefault(str(self._document.path), set()).symmetric_difference_update({recommendation})
            self._fill()

    def _tell(self, row: PlanRow | None) -> None:
        self.details.show_item(row.item if row else None, self._document)
        self._rest.start()

    # ---- doing ----------------------------------------------------------------------------------------

    def _prove(self) -> None:
        document = self._document
        if document is None or document.survey is None:
            return
        unwanted = {f for item in self._found if item.id in self._unticked for f in item.findings}
        case, findings, jobs = document.case, document.findings, self._workspace.jobs
        wanted = {f.id for f in findings} - unwanted
        jobs.run_measurement(
            lambda replay, task: prove_plan(
                document.path, case, findings, replay, None, task, jobs.proof_made(),
                chosen=wanted,
            ),
            lambda _proofs: document.reload_proofs(),
            "The plan could not be proved",
        )  # fmt: skip

    def _findings_of(self, row: PlanRow | None) -> list[Finding]:
        findings = self._document.findings if self._document else []
        return [f for f in findings if row is not None and f.id in row.item.findings and f.remedy is not None]

    def _prove_chosen(self) -> None:
        if chosen := self._findings_of(self.list.current):
            self._workspace.jobs.prove(chosen)

    def _look_at_chosen(self) -> None:
        """Before and after of the row that the user stays on, where a replay is quick."""
        document, row = self._document, self.list.current
        looked = (document, row.item.id if row else "")
        if document is None or document.survey is None or not self.isVisible() or looked == self._looked:
            return
        if document.survey.frame_ms.median <= _LONGEST_MS and not self._workspace.jobs.measuring():
            self._looked = looked
            self._look()

    def _look(self) -> None:
        row = self.list.current
        remedies = [f.remedy for f in self._findings_of(row) if f.remedy is not None]
        if row is not None and remedies:
            self._workspace.jobs.show_changed_picture(remedies, row.item.title)
