"""Findings with their gains, states and proofs: a list, and the details of the chosen one."""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import QAbstractTableModel, QModelIndex, QPersistentModelIndex, QRect, Qt, Signal
from PySide6.QtGui import QBrush, QColor, QGuiApplication, QKeySequence, QPainter
from PySide6.QtWidgets import (
    QAbstractItemView,
    QHBoxLayout,
    QHeaderView,
    QPushButton,
    QScrollArea,
    QSplitter,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QTableView,
    QVBoxLayout,
    QWidget,
)

from wendascope.analysis.findings import Finding
from wendascope.desktop.answer import details_label
from wendascope.desktop.models.document import Document, Workspace
from wendascope.desktop.theme import GRID, figures_font, theme
from wendascope.trials.proof import COMBINED, Proof, state_of
from wendascope.trials.verdicts import CHANGES, NO_DIFFERENCE, NOISE, bound_ms

Index = QModelIndex | QPersistentModelIndex
_TITLES = ("gain, ms", "what", "state")
_BAR = Qt.ItemDataRole.UserRole


class FindingsModel(QAbstractTableModel):
    """Findings, the largest gain first."""

    def __init__(self) -> None:
        super().__init__()
        self.document: Document | None = None
        self.findings: list[Finding] = []

    def show_findings(self, document: Document | None, findings: list[Finding]) -> None:
        self.beginResetModel()
        self.document, self.findings = document, sorted(findings, key=lambda f: -self._gain(document, f))
        self.endResetModel()

    @staticmethod
    def _gain(document: Document | None, finding: Finding) -> float:
        proof = document.proofs.get(finding.id) if document else None
        return (finding.estimate_ms if proof is None or _open(proof) else proof.gain_ms) or 0.0

    def rowCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        return 0 if parent.isValid() else len(self.findings)

    def columnCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        return len(_TITLES)

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if orientation == Qt.Orientation.Horizontal and role == Qt.ItemDataRole.DisplayRole:
            return _TITLES[section]
        if orientation == Qt.Orientation.Horizontal and role == Qt.ItemDataRole.TextAlignmentRole:
            return Qt.AlignmentFlag.AlignVCenter | (
                Qt.AlignmentFlag.AlignLeft if section else Qt.AlignmentFlag.AlignRight
            )
        return None

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        finding = self.findings[index.row()]
        proofs = self.document.proofs if self.document else {}
        proof = proofs.get(finding.id)
        if role == Qt.ItemDataRole.DisplayRole:
            return self.texts(finding)[index.column()]
        if role == Qt.ItemDataRole.TextAlignmentRole and index.column() == 0:
            return Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        if role == Qt.ItemDataRole.ToolTipRole:
            return proof.summary if proof else finding.how or None
        if role == _BAR and index.column() == 0:
            largest = max((self._gain(self.document, f) for f in self.findings), default=0.0)
            measured = not _open(proof)
            return (max(self._gain(self.document, finding), 0.0) / largest if largest > 0 else 0.0, measured)
        return None

    def texts(self, finding: Finding) -> tuple[str, str, str]:
        proofs = self.document.proofs if self.document else {}
        proof = proofs.get(finding.id)
        if proof is not None and not _open(proof):
            gain = _gain_text(proof)
        else:
            gain = "" if finding.estimate_ms is None else f"~{finding.estimate_ms:.2f}"
        return gain, finding.title, state_of(finding, proofs)

    def as_text(self) -> str:
        return "\n".join("\t".join(row) for row in (_TITLES, *(self.texts(f) for f in self.findings)))


def _open(proof: Proof | None) -> bool:
    """Whether the estimate is still all that is known of the gain."""
    return proof is None or proof.verdict == NOISE


def _gain_text(proof: Proof) -> str:
    """What a proof showed: a saving, what a difference is less than, or nothing."""
    if proof.gain_ms is not None:
        return f"{proof.gain_ms:.2f}"
    if proof.verdict == NO_DIFFERENCE and proof.saved_ms is not None:
        return f"<{bound_ms(proof.saved_ms):.2f}"
    return ""


class _GainDelegate(QStyledItemDelegate):
    """A bar behind the gain: dots for what is estimated, solid for what was measured."""

    def paint(self, painter: QPainter, option: QStyleOptionViewItem, index: Index) -> None:
        share, measured = index.data(_BAR) or (0.0, False)
        box = option.rect.adjusted(2, 3, -2, -3)  # type: ignore[attr-defined]
        width = int(box.width() * min(share, 1.0))
        bar = QRect(box.right() - width + 1, box.top(), width, box.height())
        painter.fillRect(
            bar, QColor(theme().bar) if measured else QBrush(QColor(theme().bar), Qt.BrushStyle.Dense5Pattern)
        )
        super().paint(painter, option, index)


class FindingsView(QWidget):
    """The findings of one question, or of all when `page` is empty."""

    chosen_changed = Signal(object)
    """The finding that is chosen now, or None."""

    def __init__(self, workspace: Workspace, page: str = "") -> None:
        super().__init__()
        self._workspace, self._page = workspace, page
        self._told = ""
        """The finding that others were told is chosen."""
        self.model = FindingsModel()
        self.table = _Table(self.model)
        self.details = details_label()
        self.prove = QPushButton("Prove")
        self.prove.setToolTip("Replay the changed frame against the original and measure both")
        self.prove_all = QPushButton("Prove all")
        self.prove_all.setToolTip("Test each finding, then all that save time as one changed frame")
        self.difference = QPushButton("Show where it differs")
        self.show_step = QPushButton("Go to the first step")
        buttons = QHBoxLayout()
        for button in (self.prove, self.prove_all, self.show_step, self.difference):
            buttons.addWidget(button)
        buttons.addStretch(1)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, GRID // 2, 0, 0)
        layout.setSpacing(GRID)
        scroll = QScrollArea()
        scroll.setWidget(self.details)
        scroll.setWidgetResizable(True)
        split = QSplitter(Qt.Orientation.Vertical)
        split.addWidget(self.table)
        split.addWidget(scroll)
        split.setSizes([150, 120])
        split.setChildrenCollapsible(False)
        layout.addWidget(split, 1)
        layout.addLayout(buttons)
        self.table.selectionModel().currentRowChanged.connect(self._row_changed)
        self.prove.clicked.connect(self._prove)
        self.prove_all.clicked.connect(
            lambda: workspace.commands.prove([f for f in self.model.findings if f.remedy is not None])
        )
        self.difference.clicked.connect(self._show_difference)
        self.show_step.clicked.connect(self._go)

    @property
    def chosen(self) -> Finding | None:
        row = self.table.currentIndex().row()
        return self.model.findings[row] if 0 <= row < len(self.model.findings) else None

    def show_document(self, document: Document | None) -> None:
        """Show what is known now; the chosen finding stays chosen."""
        kept = self.chosen.id if self.chosen else None
        findings = [f for f in document.findings if self._belongs(f)] if document else []
        self.model.show_findings(document, findings)
        row = next((i for i, f in enumerate(self.model.findings) if f.id == kept), 0)
        if self.model.findings:
            self.table.selectRow(row)
        self._tell()

    def _belongs(self, finding: Finding) -> bool:
        """Findings of other questions that have lines of a shader are shown with the shaders as well."""
        return not self._page or finding.page == self._page or (self._page == "Shaders" and bool(finding.lines))

    def choose(self, identity: str) -> None:
        for row, finding in enumerate(self.model.findings):
            if finding.id == identity:
                self.table.selectRow(row)

    def _row_changed(self) -> None:
        self._tell()
        identity = self.chosen.id if self.chosen else ""
        if identity != self._told:  # the same one again, after rows were filled anew, is no choice
            self._told = identity
            self.chosen_changed.emit(self.chosen)

    def _tell(self) -> None:
        finding, document = self.chosen, self.model.document
        proof = document.proofs.get(finding.id) if finding and document else None
        self.prove.setEnabled(finding is not None and finding.remedy is not None)
        self.prove_all.setEnabled(any(f.remedy is not None for f in self.model.findings))
        self.show_step.setEnabled(finding is not None and bool(finding.steps))
        self.difference.setVisible(proof is not None and proof.verdict == CHANGES)
        if finding is None:
            measured = document is not None and document.drawn is not None
            self.details.setText(
                "Nothing to change was found here."
                if measured
                else "Press Ctrl+M to measure the frame and find what to change."
            )
            return
        evidence = ", ".join(
            f"{name} {value:,}" if isinstance(value, int | float) else f"{name} {value}"
            for name, value in finding.evidence.items()
        )
        lines = [finding.why, evidence[:1].upper() + evidence[1:] + "."]
        if finding.estimate_ms is not None:
            lines.append(f"Estimated: {finding.how}.")
        lines.append(f"Price: {finding.price}. Conditions: {finding.conditions}.")
        if finding.remedy is None and finding.refused:
            lines.append(f"Cannot be tried here: {finding.refused}.")
        if proof is not None:
            lines.append(f"<b>{proof.told_verdict[:1].upper()}{proof.told_verdict[1:]}</b>: {proof.summary}.")
            if proof.submitting:
                lines.append(f"{proof.submitting}.")
        combined = document.proofs.get(COMBINED) if document else None
        if combined is not None and finding.id in combined.together:
            lines.append(f"With {len(combined.together) - 1} others: {combined.summary}.")
        self.details.setText("<br>".join(lines))

    def _prove(self) -> None:
        if self.chosen is not None:
            self._workspace.commands.prove([self.chosen])

    def _show_difference(self) -> None:
        if self.chosen is not None and self.chosen.remedy is not None:
            self._workspace.commands.show_changed_picture([self.chosen.remedy], self.chosen.title)

    def _go(self) -> None:
        if self.chosen is not None and self.model.document is not None:
            self.model.document.selection.choose(self.chosen.steps[0])


class _Table(QTableView):
    def __init__(self, model: FindingsModel) -> None:
        super().__init__()
        self._rows = model
        self.setModel(model)
        self.setFont(figures_font())
        self.setShowGrid(False)
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.setItemDelegateForColumn(0, _GainDelegate(self))
        self.setAccessibleName("Findings")
        self.setWordWrap(False)
        self.setMinimumHeight(12 * GRID)
        self.verticalHeader().hide()
        self.verticalHeader().setDefaultSectionSize(3 * GRID)
        header = self.horizontalHeader()
        header.setHighlightSections(False)
        header.setSectionResizeMode(1, QHeaderView.ResizeMode.Stretch)
        header.resizeSection(0, 9 * GRID)
        header.resizeSection(2, 24 * GRID)

    def keyPressEvent(self, event: Any) -> None:
        if event.matches(QKeySequence.StandardKey.Copy):
            QGuiApplication.clipboard().setText(self._rows.as_text())
        else:
            super().keyPressEvent(event)
