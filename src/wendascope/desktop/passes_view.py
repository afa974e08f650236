"""Draws of each pass: now, by the plan, and how few there can be."""

from __future__ import annotations

from PySide6.QtWidgets import QVBoxLayout, QWidget

from wendascope.analysis.batches import PassDraws
from wendascope.analysis.guidelines import guidelines
from wendascope.analysis.structure import Structure
from wendascope.desktop.models.document import Document
from wendascope.desktop.rows_table import Column, RowsModel, RowsTable
from wendascope.desktop.theme import GRID


class PassesView(QWidget):
    """A table with a bar for each count, all by the largest pass."""

    def __init__(self) -> None:
        super().__init__()
        self._document: Document | None = None
        self._shown: Structure | None = None
        self._most = 1
        strictest = min((c.high for c in guidelines().steps), default=0)
        columns: tuple[Column[PassDraws], ...] = (
            Column("pass", 0, lambda r: r.name, right=False),
            Column("draws now", 150, lambda r: f"{r.now:,}", lambda r: r.now, bar=lambda r: r.now / self._most),
            Column(
                "then", 150, lambda r: f"{r.then:,}", lambda r: r.then,
                f"By the plan; the strictest guideline is {strictest:,} steps for a whole frame",
                bar=lambda r: r.then / self._most, measured=lambda _r: False,
            ),
            Column("no order has fewer than", 170, lambda r: f"{r.least:,}", lambda r: r.least),
        )  # fmt: skip
        self.table: RowsTable[PassDraws] = RowsTable(RowsModel(columns), "Draws by pass")
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, GRID // 2, 0, 0)
        layout.addWidget(self.table)
        self.table.chosen_changed.connect(self._chosen)

    def show_document(self, document: Document | None) -> None:
        self._document = document
        found = document.structure if document else None
        if found is self._shown:
            return
        self._shown = found
        rows = found.batches.passes(document.frame.passes.names) if found and document else []
        self._most = max((row.now for row in rows), default=1)
        self.table.rows.show_rows(rows)

    def _chosen(self, row: PassDraws | None) -> None:
        """The picture shows the pass when it is finished."""
        if row is not None and self._document is not None:
            self._document.selection.choose(int(self._document.frame.passes.end[row.index]) - 1)
