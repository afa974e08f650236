"""The Plan page: what to change first, what each change brings, and whether the budget is reached."""

from __future__ import annotations

from dataclasses import dataclass

from PySide6.QtCore import QModelIndex, QSettings, Qt
from PySide6.QtGui import QKeySequence, QShortcut
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QScrollArea, QSplitter

from wendascope.advice.recommend import Gain, Recommendation, Section
from wendascope.desktop.charts.waterfall import Waterfall
from wendascope.desktop.models.document import Document, Workspace
from wendascope.desktop.pages._following import FramePage
from wendascope.desktop.pages._registry import page
from wendascope.desktop.views.plan_sections import SectionButtons, under
from wendascope.desktop.widgets.answer import details_label, labelled
from wendascope.desktop.widgets.rows_table import Column, RowsModel, RowsTable
from wendascope.frame.remedy import Remedy
from wendascope.report.plan import gain_text, places_text
from wendascope.texts import capital, memory, plural, three_digits
from wendascope.trials.plan import Plan, make_plan, prove_plan, recommendations_of
from wendascope.trials.proofs.proof import Proof

_ANY: tuple[Section, ...] = ()
_SHOWN = (
    (Section.TIME,), (Section.TIME, Section.QUALITY, Section.NOTHING), (Section.TIME, Section.QUALITY, Section.NOTHING),
    (Section.MEMORY,), (Section.QUALITY,), (Section.QUALITY,), _ANY, (Section.TIME, Section.MEMORY),
    (Section.TIME, Section.MEMORY, Section.NOTHING),
)  # fmt: skip
"""Of each column: the sections that show it; all where none is named."""


@dataclass(frozen=True)
class _Row:
    item: Recommendation
    taken: bool
    in_plan: bool
    """Whether it may be taken in at all."""


@page("Plan", -5)
class PlanPage(FramePage):
    """The sentence, the waterfall, the recommendations with ticks, and the details of the chosen one."""

    works_hidden = True

    def __init__(self, workspace: Workspace, _settings: QSettings) -> None:
        super().__init__(workspace, "What should be changed first, and does it reach the budget?")
        self.waterfall = Waterfall()
        columns: tuple[Column[_Row], ...] = (
            Column(
                "", 28, lambda r: ("☑" if r.taken else "☐") if r.in_plan else "", lambda r: r.taken,
                "Tick to take it into the plan", False,
            ),
            Column("GPU, ms", 76, lambda r: _gain(r.item.gpu), lambda r: r.item.gpu.ms if r.item.gpu else None,
                   "Proved, or estimated with ~; the range is among the details",
                   copied=lambda r: gain_text(r.item.gpu)),
            Column("CPU, ms", 76, lambda r: _gain(r.item.cpu), lambda r: r.item.cpu.ms if r.item.cpu else None,
                   "Submission: proved, or estimated with ~; the range is among the details",
                   copied=lambda r: gain_text(r.item.cpu)),
            Column("memory", 76, lambda r: memory(r.item.less_bytes) if r.item.less_bytes > 0 else "",
                   lambda r: r.item.less_bytes, "Graphics memory that would not be needed any more"),
            Column("visible px", 76, lambda r: f"{r.item.visible:,}", lambda r: r.item.visible,
                   "Pixels whose colour changes by more than a just noticeable difference (2.3 in CIE L*a*b*)"),
            Column("largest", 60, lambda r: f"{r.item.largest}", lambda r: r.item.largest,
                   "Largest difference of a channel, of 255"),
            Column("what", 0, lambda r: r.item.title, right=False),
            Column("effort", 124, lambda r: r.item.effort, right=False),
            Column("state", 150, lambda r: r.item.state_text, right=False),
        )  # fmt: skip
        self.table: RowsTable[_Row] = RowsTable(
            RowsModel(columns), "Recommendations", sortable=False, empty="Recommendations come with measuring: Ctrl+M."
        )
        self.table.rows.soft = lambda row: row.item.small
        self.table.rows.tip = lambda row: (row.item.fold and f"{row.item.title}\n{row.item.fold}") or row.item.title
        self.details = details_label()
        self.prove = QPushButton("Prove this plan")
        self.prove.setToolTip("Replay the frame with each change and all before it, against the original")
        self.look = QPushButton("Show the change")
        self.look.setToolTip("The finished picture with the change beside that of today, and where they differ")
        self.sections = SectionButtons()
        self.show_step = QPushButton("Mark in the picture")
        self.show_step.setToolTip("Go to its first step, and outline all of its steps in that pass")
        buttons = QHBoxLayout()
        for button in (self.prove, self.look, self.show_step):
            buttons.addWidget(button)
        buttons.addStretch(1)
        above = QScrollArea()
        above.setWidget(self.waterfall)
        above.setWidgetResizable(True)
        scroll = QScrollArea()
        scroll.setWidget(self.details)
        scroll.setWidgetResizable(True)
        split = QSplitter(Qt.Orientation.Vertical)
        for part in (above, under(self.sections, self.table), scroll):
            split.addWidget(part)
        split.setSizes([190, 200, 110])
        split.setChildrenCollapsible(False)
        self.room.addWidget(split, 1)
        self.room.addLayout(buttons)
        self._left_out: dict[str, set[str]] = {}
        """File -> recommendations that are not ticked."""
        self._found: list[Recommendation] = []
        self._plan: Plan | None = None
        self._shown: tuple[object, ...] = ()
        self.table.clicked.connect(self._clicked)
        self.table.chosen_changed.connect(lambda _row: self._tell())
        self.waterfall.chosen.connect(self.choose)
        self.prove.clicked.connect(self._prove)
        self.look.clicked.connect(self._look)
        self.sections.chosen.connect(lambda _section: self._fill())
        self.show_step.clicked.connect(self._go)
        toggle = QShortcut(QKeySequence(Qt.Key.Key_Space), self.table)
        toggle.setContext(Qt.ShortcutContext.WidgetShortcut)
        toggle.activated.connect(lambda: self.toggle(self.table.chosen))
        workspace.listen(self._document_changed)
        self.follow()

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
    def chosen_for_plan(self) -> list[Recommendation]:
        """The recommendations that are ticked, in their order."""
        out = self._left_out.get(str(self._document.path), set()) if self._document else set()
        return [item for item in self._found if not item.small and item.id not in out]

    def _fill(self) -> None:
        document, kept = self._document, self.table.chosen
        out = self._left_out.get(str(document.path), set()) if document else set()
        groups = {
            section: [item for item in self._found if not item.small and item.section is section]
            for section in (Section.TIME, Section.QUALITY, Section.MEMORY)
        }
        groups[Section.NOTHING] = [item for item in self._found if item.small]
        self.sections.show_counts({section: len(items) for section, items in groups.items()})
        section = self.sections.section
        for column, of in enumerate(_SHOWN):
            self.table.setColumnHidden(column, bool(of) and section not in of)
        rows = [_Row(item, item.id not in out and not item.small, section is Section.TIME) for item in groups[section]]
        self.table.rows.show_rows(rows)
        if document is not None and document.survey is not None and document.drawn is not None:
            now = document.survey.frame_ms.median, document.survey.submit_ms.median
            budget = self._workspace.budget_ms
            own, chosen = document.survey.cpu.program_ms, self.chosen_for_plan
            self._plan = make_plan(document.case, now, chosen, document.findings, document.proofs, budget, own)
            elsewhere = [f"{capital(sentence)}." for sentence in document.elsewhere]
            self.say(capital(self._plan.sentence), " ".join(filter(None, [self._plan.rest, *elsewhere])))
        if kept is not None and any(row.item.id == kept.item.id for row in rows):
            self.choose(kept.item.id)
        elif rows:
            self.table.selectRow(0)
        self._tell()

    def choose(self, identity: str) -> None:
        """Choose a recommendation, in its section."""
        item = next((i for i in self._found if i.id == identity), None)
        section = Section.NOTHING if item is None or item.small else item.section
        if item is not None and section is not self.sections.section:
            self.sections.choose(section)
        for number, row in enumerate(self.table.rows.rows):
            if row.item.id == identity:
                self.table.selectRow(number)

    def toggle(self, row: _Row | None) -> None:
        """Leave a recommendation out of the plan, or take it back in."""
        if row is None or not row.in_plan or self._document is None:
            return
        self._left_out.setdefault(str(self._document.path), set()).symmetric_difference_update({row.item.id})
        self._fill()

    def _clicked(self, index: QModelIndex) -> None:
        if index.column() == 0:
            self.toggle(self.table.rows.rows[index.row()])

    def _tell(self) -> None:
        row, document = self.table.chosen, self._document
        self.waterfall.show_plan(self._plan, row.item.id if row else "")
        self.prove.setEnabled(bool(self._found))
        self.look.setEnabled(bool(row and self._remedies(row.item)))
        self.show_step.setEnabled(row is not None and bool(row.item.steps))
        if row is None or document is None:
            self.details.setText("" if document is None else "Nothing to change was found.")
            return
        self.details.setText(labelled(_facts(row.item, document)))

    # ---- doing ----------------------------------------------------------------------------------------

    def _prove(self) -> None:
        document = self._document
        if document is None or document.survey is None:
            return
        out = self._left_out.get(str(document.path), set())
        unwanted = {f for item in self._found if item.id in out for f in item.findings}
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

    def _remedies(self, item: Recommendation) -> list[Remedy]:
        """What can be tried of a recommendation."""
        findings = self._document.findings if self._document else []
        return [f.remedy for f in findings if f.id in item.findings and f.remedy is not None]

    def _look(self) -> None:
        row = self.table.chosen
        if row is not None and (remedies := self._remedies(row.item)):
            self._workspace.jobs.show_changed_picture(remedies, row.item.title)

    def _go(self) -> None:
        row = self.table.chosen
        if row is not None and row.item.steps and self._document is not None:
            self._document.selection.mark(row.item.steps)


def _gain(gain: Gain | None) -> str:
    return gain_text(gain).partition(" (")[0]


def _both(item: Recommendation) -> str:
    """The gains of both sides with their ranges."""
    sides = [f"{side} {text} ms" for side, gain in (("GPU", item.gpu), ("CPU", item.cpu)) if (text := gain_text(gain))]
    return ", ".join(sides)


def _facts(item: Recommendation, document: Document) -> list[tuple[str, str]]:
    names = document.frame.passes.short_names
    several = item.how if len(item.how) > 1 else []
    where = places_text([names[index] for index in item.passes], 5)
    changed = f"{plural(item.pixels, 'pixel')} by up to {item.largest} of 255, {item.visible:,} of them visibly"
    tries = [t for t in item.tries if t.words]
    facts = [
        ("gain", _both(item)),
        (
            "and up to",
            f"{three_digits(item.own_ms)} ms of the program's own time between the calls, by the recording"
            if item.own_ms > 0.05
            else "",
        ),
        ("changes", changed if item.pixels else ""),
        *(("tried", t.words if len(item.findings) == 1 else f"{t.title}: {t.words}") for t in tries[:4]),
        ("why", item.why),
        ("where", f"{plural(len(item.steps), 'step')} {where}" if item.steps else ""),
        ("same cause", f"{plural(len(several), 'finding')}: {item.cause}" if several else ""),
        ("to do", " ".join(several[:4]) + (f" And {len(several) - 4} more." if len(several) > 4 else "")),
        ("price", item.price),
        ("risk", item.risk),
        ("holds", item.conditions),
        ("instead of", plural(len(item.excludes), "other recommendation") if item.excludes else ""),
        ("below the fold", item.fold),
    ]
    proofs: list[Proof] = [document.proofs[f] for f in item.findings if f in document.proofs]
    facts += [("proof", proof.summary) for proof in proofs[:3]]
    return [(label, capital(text)) for label, text in facts if text]
