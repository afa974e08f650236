"""Findings with their gains, states and proofs: a list, and the details of the chosen one."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QScrollArea, QSplitter, QVBoxLayout, QWidget

from wendascope.advice.findings import Finding
from wendascope.desktop.models.document import Document, Workspace
from wendascope.desktop.widgets.answer import details_label, labelled
from wendascope.desktop.widgets.note_line import NoteLine
from wendascope.desktop.widgets.rows_table import Column, RowsModel, RowsTable
from wendascope.desktop.widgets.theme import GRID
from wendascope.frame.notes import Subject
from wendascope.texts import capital, memory, plural
from wendascope.trials.proofs.proof import Proof, newest_together, state_of
from wendascope.trials.proofs.verdicts import Verdict, bound_ms


def _open(proof: Proof | None) -> bool:
    """Whether the estimate is still all that is known of the gain."""
    return proof is None or proof.verdict == Verdict.NOISE


def _gain_text(proof: Proof) -> str:
    """What a proof showed: a saving, what a difference is less than, or nothing."""
    if proof.gain_ms is not None:
        return f"{proof.gain_ms:.2f}"
    if proof.verdict == Verdict.NO_DIFFERENCE and proof.saved_ms is not None:
        return f"<{bound_ms(proof.saved_ms):.2f}"
    return ""


def _bytes(less: int) -> str:
    return "" if not less else memory(less) if less > 0 else f"+{memory(-less)}"


def _gain(document: Document | None, finding: Finding) -> float:
    """What is known of its gain: proved, else estimated, in ms."""
    proof = document.proofs.get(finding.id) if document else None
    return (finding.estimate_ms if proof is None or _open(proof) else proof.gain_ms) or 0.0


class FindingsView(QWidget):
    """The findings of one question, or of all when `page` is empty."""

    chosen_changed = Signal(object)
    """The finding that is chosen now, or None."""

    def __init__(self, workspace: Workspace, page: str = "") -> None:
        super().__init__()
        self._workspace, self._page = workspace, page
        self._told = ""
        """The finding that others were told is chosen."""
        self._document: Document | None = None
        self.table: RowsTable[Finding] = RowsTable(
            RowsModel(self._columns(), (0, True) if page != "Memory" else (1, True)),
            "Findings",
        )
        self.table.rows.tip = self._tip
        self.details = details_label()
        self.note = NoteLine()
        self.prove = QPushButton("Prove")
        self.prove.setToolTip("Replay the changed frame against the original and measure both")
        self.prove_all = QPushButton("Prove all")
        self.prove_all.setToolTip(
            "Test the most promising first, for two minutes, then all that save time as one changed frame;"
            " press again to go on with those not reached"
        )
        self.difference = QPushButton("Show where it differs")
        self.show_step = QPushButton("Go to the first step")
        buttons = QHBoxLayout()
        for button in (self.prove, self.prove_all, self.show_step, self.difference):
            buttons.addWidget(button)
        buttons.addStretch(1)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, GRID // 2, 0, 0)
        layout.setSpacing(GRID)
        self.all_about = QPushButton("All about it")
        self.all_about.setToolTip("Its evidence, price, conditions and proofs, on the Findings page")
        self.all_about.clicked.connect(self._go_to_findings)
        if page:  # beside a table and a picture there is room for the gist of it
            buttons.insertWidget(3, self.all_about)
            layout.addWidget(self.table, 1)
            layout.addWidget(self.details)
        else:
            layout.addWidget(self._with_details(), 1)
            layout.addWidget(self.note)
        layout.addLayout(buttons)
        self.table.chosen_changed.connect(self._row_changed)
        self.prove.clicked.connect(self._prove)
        self.prove_all.clicked.connect(lambda: workspace.jobs.prove([f for f in self.findings if f.remedy is not None]))
        self.difference.clicked.connect(self._show_difference)
        self.show_step.clicked.connect(self._go)

    def _with_details(self) -> QSplitter:
        scroll = QScrollArea()
        scroll.setWidget(self.details)
        scroll.setWidgetResizable(True)
        split = QSplitter(Qt.Orientation.Vertical)
        split.addWidget(self.table)
        split.addWidget(scroll)
        split.setSizes([330, 240])
        split.setChildrenCollapsible(False)
        return split

    def _columns(self) -> list[Column[Finding]]:
        def proof_of(finding: Finding) -> Proof | None:
            return self._document.proofs.get(finding.id) if self._document else None

        def gain(finding: Finding) -> str:
            proof = proof_of(finding)
            if proof is not None and not _open(proof):
                return _gain_text(proof)
            return "" if finding.estimate_ms is None else f"~{finding.estimate_ms:.2f}"

        def share(finding: Finding) -> float:
            largest = max((_gain(self._document, f) for f in self.findings), default=0.0)
            return max(_gain(self._document, finding), 0.0) / largest if largest > 0 else 0.0

        memory_saved = Column[Finding](
            "less memory",
            14 * GRID,
            lambda finding: _bytes(finding.less_bytes),
            lambda finding: finding.less_bytes or None,
            tip="Graphics memory that would not be needed any more",
        )
        return [
            Column(
                "gain, ms",
                11 * GRID,
                gain,
                lambda finding: _gain(self._document, finding),
                bar=share,
                measured=lambda finding: not _open(proof_of(finding)),
            ),
            *([memory_saved] if self._page == "Memory" else []),
            Column("what", 0, lambda finding: finding.title, right=False),
            Column(
                "state",
                (20 if self._page == "Memory" else 24) * GRID,
                lambda finding: state_of(finding, self._document.proofs if self._document else {}),
                right=False,
            ),
        ]

    def _tip(self, finding: Finding) -> str:
        proof = self._document.proofs.get(finding.id) if self._document else None
        return f"{finding.title}\n{proof.summary if proof else finding.how_known}"

    @property
    def findings(self) -> list[Finding]:
        """As they are listed."""
        return self.table.rows.rows

    @property
    def chosen(self) -> Finding | None:
        return self.table.chosen

    def show_document(self, document: Document | None) -> None:
        """Show what is known now; the chosen finding stays chosen."""
        kept = self.chosen.id if self.chosen else None
        findings = [f for f in document.findings if self._belongs(f)] if document else []
        self._document = document
        self.table.rows.show_rows(findings)
        row = next((i for i, f in enumerate(self.findings) if f.id == kept), 0)
        if self.findings:
            self.table.selectRow(row)
        self._tell()

    def _belongs(self, finding: Finding) -> bool:
        """Findings of other questions that have lines of a shader are shown with the shaders as well."""
        return (
            not self._page or finding.kept_rule.page == self._page or (self._page == "Shaders" and bool(finding.lines))
        )

    def choose(self, identity: str) -> None:
        for row, finding in enumerate(self.findings):
            if finding.id == identity:
                self.table.selectRow(row)

    def _row_changed(self) -> None:
        self._tell()
        identity = self.chosen.id if self.chosen else ""
        if identity != self._told:  # the same one again, after rows were filled anew, is no choice
            self._told = identity
            self.chosen_changed.emit(self.chosen)

    def _tell(self) -> None:
        finding, document = self.chosen, self._document
        proof = document.proofs.get(finding.id) if finding and document else None
        self.prove.setEnabled(finding is not None and finding.remedy is not None)
        self.prove_all.setEnabled(any(f.remedy is not None for f in self.findings))
        self.show_step.setEnabled(finding is not None and bool(finding.steps))
        self.difference.setVisible(proof is not None and proof.verdict == Verdict.CHANGES)
        self.all_about.setEnabled(finding is not None)
        if not self._page:
            self.note.show_subjects(document, [(finding.title, Subject("finding", finding.id))] if finding else [])
        if finding is None:
            measured = document is not None and document.drawn is not None
            self.table.empty = (
                "Nothing to change was found here."
                if measured
                else "Press Ctrl+M to measure the frame and find what to change."
            )
            self.details.clear()
            return
        facts = _facts(finding, proof, newest_together(document.proofs) if document else None)
        if self._page:
            gist = dict(facts)
            self.details.setToolTip("\n".join(f"{label}: {text}" for label, text in facts if text))
            last = "cannot be tried" if "cannot be tried" in gist else "proof" if "proof" in gist else "evidence"
            facts = [(label, gist[label]) for label in ("why", last)]
        self.details.setText(labelled(facts))

    def _prove(self) -> None:
        if self.chosen is not None:
            self._workspace.jobs.prove([self.chosen])

    def _show_difference(self) -> None:
        if self.chosen is not None and self.chosen.remedy is not None:
            self._workspace.jobs.show_changed_picture([self.chosen.remedy], self.chosen.title)

    def _go_to_findings(self) -> None:
        if self.chosen is not None:
            self._workspace.commands.show_finding(self.chosen.id)

    def _go(self) -> None:
        if self.chosen is not None and self._document is not None:
            self._document.selection.choose(self.chosen.steps[0])


def _facts(finding: Finding, proof: Proof | None, combined: Proof | None) -> list[tuple[str, str]]:
    """What is known of a finding, by label."""
    evidence = ", ".join(
        f"{name} {value:,}" if isinstance(value, int | float) else f"{name} {value}"
        for name, value in finding.evidence.items()
    )
    facts = [
        ("why", finding.why.rstrip(".")),
        ("evidence", evidence),
        ("estimated by", finding.how_known if finding.estimate_ms is not None else ""),
        ("price", finding.price),
        ("conditions", finding.conditions),
    ]
    if finding.remedy is None and finding.refused:
        facts.append(("cannot be tried", finding.refused))
    if proof is not None:
        facts += [("verdict", proof.told_verdict), ("proof", proof.summary)]
        facts += [("submission", proof.submission), ("for this frame", proof.bound)]
    if combined is not None and finding.id in combined.together:
        facts.append((f"with {plural(len(combined.together) - 1, 'other')}", combined.summary))
    return [(label, capital(text)) for label, text in facts]
