"""The chosen recommendation beside the list: why, what became of every try, the code and the steps concerned."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QScrollArea, QTabWidget, QVBoxLayout, QWidget

from wendascope.advice.recommend import Recommendation
from wendascope.desktop.models.commands import JobName
from wendascope.desktop.models.document import Document, Workspace
from wendascope.desktop.views.code_view import CodeView
from wendascope.desktop.widgets.answer import details_label, labelled
from wendascope.desktop.widgets.note_line import NoteLine
from wendascope.desktop.widgets.plain import Label
from wendascope.desktop.widgets.rows_table import Column, RowsModel, RowsTable
from wendascope.desktop.widgets.theme import GRID, figures_font
from wendascope.frame.notes import Subject
from wendascope.frame.remedy import Remedy
from wendascope.report.plan import gain_text, places_text
from wendascope.texts import capital, plural, three_digits
from wendascope.trials.proofs.proof import Proof
from wendascope.trials.remedy_code import remedy_code


class PlanDetails(QWidget):
    """Follows the row that is chosen in the list."""

    prove = Signal()
    """Prove what is chosen."""
    look = Signal()
    """Show the picture with the change beside that of today."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self._workspace = workspace
        self._item: Recommendation | None = None
        self._document: Document | None = None
        self._coded: tuple[str, ...] = ()
        self.title = Label()
        self.title.setWordWrap(True)
        self.title.setFont(figures_font(1.1))
        self.note = NoteLine()
        self.facts = details_label()
        scroll = QScrollArea()
        scroll.setWidget(self.facts)
        scroll.setWidgetResizable(True)
        self.code = CodeView()
        columns: tuple[Column[int], ...] = (
            Column("step", 64, lambda step: f"{step:,}", lambda step: step),
            Column("what", 0, self._name, right=False),
            Column("pass", 120, self._pass, right=False),
            Column("ms", 72, self._ms, self._time),
        )
        self.steps: RowsTable[int] = RowsTable(RowsModel(columns, (0, False)), "Steps concerned")
        self.steps.chosen_changed.connect(self._go)
        self.tabs = QTabWidget()
        for name, part in (("Why", scroll), ("Code", self.code), ("Steps", self.steps)):
            self.tabs.addTab(part, name)
        self.tabs.currentChanged.connect(lambda _tab: self._fill_code())
        self.prove_one = QPushButton("Prove it")
        self.prove_one.setToolTip("Replay the frame with this change alone, against the original")
        self.prove_one.clicked.connect(self.prove)
        self.show_change = QPushButton("Before and after")
        self.show_change.setToolTip("The finished picture of today beside the one with the change")
        self.show_change.clicked.connect(self.look)
        self.mark = QPushButton("Mark its steps")
        self.mark.setToolTip("Go to its first step, and outline all of its steps in that pass")
        self.mark.clicked.connect(self._mark)
        buttons = QHBoxLayout()
        for button in (self.prove_one, self.show_change, self.mark):
            buttons.addWidget(button)
        buttons.addStretch(1)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(GRID, GRID // 2, GRID, GRID)
        layout.setSpacing(GRID // 2)
        layout.addWidget(self.title)
        layout.addWidget(self.note)
        layout.addWidget(self.tabs, 1)
        layout.addLayout(buttons)

    def show_item(self, item: Recommendation | None, document: Document | None) -> None:
        """Show a recommendation of a document; None where none is chosen."""
        self._item, self._document = item, document
        self.note.show_subjects(
            document, [("this", _finding_subject(item.findings, document))] if item and document else []
        )
        self.title.setText(item.title if item else "Nothing is chosen" if document else "")
        self.facts.setText(labelled(_facts(item, document)) if item and document else "")
        self.steps.rows.show_rows(list(item.steps) if item else [])
        self.tabs.setTabText(2, f"Steps {len(item.steps):,}" if item and item.steps else "Steps")
        remedies = self.remedies
        self.prove_one.setEnabled(bool(remedies))
        self.show_change.setEnabled(bool(remedies))
        self.mark.setEnabled(bool(item and item.steps))
        self._fill_code()

    @property
    def remedies(self) -> list[Remedy]:
        """What can be tried of the chosen recommendation."""
        item, document = self._item, self._document
        if item is None or document is None:
            return []
        return [f.remedy for f in document.findings if f.id in item.findings and f.remedy is not None]

    # ---- code and steps ---------------------------------------------------------------------------------

    def _fill_code(self) -> None:
        """Work the code out once somebody looks at it."""
        item, document = self._item, self._document
        wanted = (str(document.path), item.id) if item and document else ()
        if self.tabs.currentWidget() is not self.code or wanted == self._coded:
            return
        self._coded = wanted
        self.code.show_code([], "")
        remedies = self.remedies
        if document is None or not remedies:
            self.code.show_code([], "There is no code to show: this is not tried by changing calls or shaders.")
            return
        frame = document.frame
        none = "This changes which calls are made or their data, and no shader."
        self._workspace.jobs.run_job(
            JobName.REMEDY_CODE,
            lambda _replay, _task: remedy_code(frame, remedies),
            lambda code: self.code.show_code(code, "" if code else none) if wanted == self._coded else None,
            lambda error: self.code.show_code([], capital(f"{error}.")) if wanted == self._coded else None,
        )

    def _name(self, step: int) -> str:
        return self._document.frame.step_name(step) if self._document else ""

    def _pass(self, step: int) -> str:
        if self._document is None:
            return ""
        passes = self._document.frame.passes
        return passes.short_names[int(passes.of_step[step])]

    def _time(self, step: int) -> float | None:
        survey = self._document.survey if self._document else None
        return float(survey.steps.ms[step]) if survey is not None else None

    def _ms(self, step: int) -> str:
        ms = self._time(step)
        return "" if ms is None else three_digits(ms)

    def _go(self, step: int | None) -> None:
        if step is not None and self._document is not None:
            self._document.selection.choose(step)

    def _mark(self) -> None:
        if self._item is not None and self._item.steps and self._document is not None:
            self._document.selection.mark(self._item.steps)


def _finding_subject(findings: Sequence[str], document: Document) -> Subject:
    """What a note on a recommendation is on: the finding of it that has one, else the first."""
    subjects = [Subject("finding", name) for name in findings]
    return next((subject for subject in subjects if subject in document.notes), subjects[0])


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
