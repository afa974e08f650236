"""Draws of each pass: now, by the plan, how few there can be, and how far that is from a guideline."""

from __future__ import annotations

from PySide6.QtCore import QSettings
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QVBoxLayout, QWidget

from wendascope.analysis.draws.batches import PassDraws
from wendascope.analysis.draws.structure import Structure
from wendascope.analysis.guidelines import guidelines
from wendascope.desktop.models.document import Document
from wendascope.desktop.widgets.plain import Label
from wendascope.desktop.widgets.rows_table import Column, RowsModel, RowsTable
from wendascope.desktop.widgets.theme import GRID
from wendascope.texts import plural

_CHOSEN = "batching/device"


class PassesView(QWidget):
    """A table with a bar for each count, all by the largest pass, beside the pass's share of a guideline."""

    def __init__(self, settings: QSettings) -> None:
        super().__init__()
        self._settings = settings
        self._document: Document | None = None
        self._shown: Structure | None = None
        self._most = 1
        self._classes = sorted(guidelines().steps, key=lambda c: c.high)
        self.device = QComboBox()
        self.device.setAccessibleName("Guideline")
        for item in self._classes:
            self.device.addItem(f"{item.device}, {item.high:,} draws", item.device)
        at = self.device.findData(settings.value(_CHOSEN, ""))
        self.device.setCurrentIndex(max(at, 0))
        self.note = Label()
        columns: tuple[Column[PassDraws], ...] = (
            Column("pass", 0, lambda r: r.name, right=False),
            Column("draws now", 120, lambda r: f"{r.now:,}", lambda r: r.now, bar=lambda r: r.now / self._most),
            Column(
                "then", 120, lambda r: f"{r.then:,}", lambda r: r.then, "By the plan",
                bar=lambda r: r.then / self._most, measured=lambda _r: False,
            ),
            Column("at least", 72, lambda r: f"{r.least:,}", lambda r: r.least, "No order of the draws has fewer"),
            Column(
                "guideline", 80, lambda r: f"{self._target(r):,}", self._target,
                "The pass's share of the guideline for the frame, by its draws now",
            ),
            Column("now", 64, lambda r: self._over(r.now, r), lambda r: r.now / self._target(r), "Draws now by that"),
            Column("then ", 64, lambda r: self._over(r.then, r), lambda r: r.then / self._target(r), "Then by that"),
        )  # fmt: skip
        self.table: RowsTable[PassDraws] = RowsTable(RowsModel(columns), "Draws by pass")
        row = QHBoxLayout()
        row.addWidget(Label("Guideline"))
        row.addWidget(self.device)
        row.addWidget(self.note, 1)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, GRID // 2, 0, 0)
        layout.setSpacing(GRID // 2)
        layout.addLayout(row)
        layout.addWidget(self.table)
        self.table.chosen_changed.connect(self._chosen)
        self.device.currentIndexChanged.connect(self._device_chosen)

    def show_document(self, document: Document | None) -> None:
        self._document = document
        found = document.structure if document else None
        if found is self._shown:
            return
        self._shown = found
        rows = found.batches.passes(document.frame.passes.names) if found and document else []
        self._most = max((row.now for row in rows), default=1)
        self.table.rows.show_rows(rows)
        self._tell()

    def _target(self, row: PassDraws) -> int:
        """Draws; a pass that draws has one at least."""
        high = self._classes[self.device.currentIndex()].high if self._classes else row.now
        return max(round(high * row.share), 1)

    def _over(self, draws: int, row: PassDraws) -> str:
        times = draws / self._target(row)
        return f"{times:.0f}x" if times >= 10 else f"{times:.1f}x" if times >= 1 else f"{times:.2f}x"

    def _device_chosen(self) -> None:
        self._settings.setValue(_CHOSEN, self.device.currentData())
        self.table.rows.repaint_rows()
        self._tell()

    def _tell(self) -> None:
        if self._shown is None or not self._classes:
            self.note.setText("")
            return
        item = self._classes[self.device.currentIndex()]
        now = self._shown.batches.draws_now()
        then = now - self._shown.batches.saved
        times, later = (f"{_few_digits(draws / item.high)} times" for draws in (now, then))
        self.note.setText(f"The frame has {plural(now, 'draw')}, {times} that; the plan {then:,}, {later}.")

    def _chosen(self, row: PassDraws | None) -> None:
        """The picture shows the pass when it is finished."""
        if row is not None and self._document is not None:
            self._document.selection.choose(int(self._document.frame.passes.end[row.index]) - 1)


def _few_digits(value: float) -> str:
    return f"{value:.2g}" if value < 99.5 else f"{value:,.0f}"
