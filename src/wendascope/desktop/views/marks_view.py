"""Marks of a running program's memory: what came and went between two of them, and what only grows."""

from __future__ import annotations

import threading
from pathlib import Path

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QPushButton, QSplitter, QWidget

from wendascope.analysis.memory.sums import MemoryChange, MemoryComparison, compared, grows_without_end
from wendascope.desktop.charts.memory_chart import MemoryChart
from wendascope.desktop.models.session import SessionModel
from wendascope.desktop.widgets.answer import lay_out
from wendascope.desktop.widgets.plain import Label
from wendascope.desktop.widgets.rows_table import Column, RowsModel, RowsTable
from wendascope.errors import FileError
from wendascope.frame.memory import MemoryItem
from wendascope.frame.memory_mark import load_mark, marked_items
from wendascope.tap.messages import Marked
from wendascope.texts import memory, memory_change


class MarksView(QWidget):
    """A chart of memory, the marks, and the changes between the two that are chosen, or since the one before."""

    asked = Signal()
    """A mark is wanted."""
    _read = Signal(str, object)

    def __init__(self, session: SessionModel) -> None:
        super().__init__()
        self._session = session
        self._items: dict[str, list[MemoryItem]] = {}
        self._asked: set[str] = set()
        self.mark = QPushButton("Mark memory")
        self.mark.setToolTip("Keep what lives in graphics memory now, to compare later marks with it (Ctrl+Shift+M)")
        self.mark.clicked.connect(self.asked.emit)
        self.answer = Label()
        self.chart = MemoryChart()
        self.marks: RowsTable[Marked] = RowsTable(
            RowsModel(self._mark_columns()), "Marks", several=True,
            empty="Mark a moment, play on, mark another: what lies between is told here. Three marks show what grows.",
        )  # fmt: skip
        self.changes: RowsTable[MemoryChange] = RowsTable(RowsModel(_change_columns()), "Changes between marks")
        tables = QSplitter(Qt.Orientation.Horizontal)
        tables.addWidget(self.marks)
        tables.addWidget(self.changes)
        tables.setSizes([350, 430])
        parts = QSplitter(Qt.Orientation.Vertical)
        parts.addWidget(self.chart)
        parts.addWidget(tables)
        parts.setChildrenCollapsible(False)
        parts.setSizes([120, 160])
        lay_out(self, [self.mark], self.answer, parts)
        self._read.connect(self._arrived)
        self.marks.selectionModel().selectionChanged.connect(lambda *_: self._show_changes())

    def refresh(self) -> None:
        """Show what the session tells now."""
        session = self._session
        self.mark.setEnabled(session.running)
        self.chart.show_history(session.memory, [(mark.number, mark.frame) for mark in session.marked])
        if session.marked != self.marks.rows.rows:
            self.marks.rows.show_rows(session.marked)
            for mark in session.marked:
                self._load(mark.file)
            self._show_changes()

    def _load(self, name: str) -> None:
        if name in self._asked:
            return
        self._asked.add(name)

        def work() -> None:
            try:
                found: object = marked_items(load_mark(Path(name)))
            except FileError as error:
                found = error
            self._read.emit(name, found)

        threading.Thread(target=work, daemon=True).start()

    def _arrived(self, name: str, found: object) -> None:
        if isinstance(found, list):
            self._items[name] = found
        else:
            self.answer.setText(str(found))
        self._show_changes()

    def _chosen(self) -> tuple[Marked, Marked] | None:
        """The two chosen marks in their order; one with the mark before it; else the last two."""
        marks = self._session.marked
        chosen = sorted(self.marks.all_chosen, key=lambda mark: mark.number)
        if len(chosen) >= 2:
            return chosen[0], chosen[-1]
        last = chosen[0] if chosen else marks[-1] if marks else None
        before = [mark for mark in marks if last is not None and mark.number < last.number]
        return (before[-1], last) if before and last is not None else None

    def _show_changes(self) -> None:
        pair = self._chosen()
        if pair is None or any(mark.file not in self._items for mark in pair):
            self.changes.rows.show_rows([])
            return
        found = compared(*(self._items[mark.file] for mark in pair))
        self.changes.rows.show_rows(found.changes)
        self.answer.setText(self._told(pair, found))

    def _told(self, pair: tuple[Marked, Marked], found: MemoryComparison) -> str:
        text = f"Marks {pair[0].number} and {pair[1].number}: {found.answer}"
        moments = [self._items[mark.file] for mark in self._session.marked if mark.file in self._items]
        growing = grows_without_end(moments)
        if growing:
            first = growing[0]
            text += (
                f" Grows at every mark: {first.name}, {len(first.items):,} more since the first mark,"
                f" {memory(first.bytes)}."
            )
        return text

    def _mark_columns(self) -> list[Column[Marked]]:
        def since(mark: Marked) -> str:
            before = [other for other in self._session.marked if other.number == mark.number - 1]
            if not before:
                return ""
            return memory_change(mark.bytes - before[0].bytes)

        return [
            Column("mark", 46, lambda mark: f"{mark.number}", lambda mark: mark.number),
            Column("frame", 52, lambda mark: f"{mark.frame:,}", lambda mark: mark.frame),
            Column("memory", 72, lambda mark: memory(mark.bytes), lambda mark: mark.bytes),
            Column("objects", 56, lambda mark: f"{mark.objects:,}", lambda mark: mark.objects),
            Column("since before", 0, since, tip="How much more than at the mark before"),
        ]


def _change_columns() -> list[Column[MemoryChange]]:
    return [
        Column("change", 56, lambda change: change.kind.value, right=False),
        Column("bytes", 76, lambda change: memory_change(change.bytes), lambda change: change.bytes),
        Column("object", 80, lambda change: change.item.title, right=False),
        Column("what", 0, lambda change: f"{change.item.dimensions} {change.item.format}".strip(), right=False),
        Column("made in", 96, lambda change: change.item.place, right=False),
    ]
