"""Passes and their steps as a sorted table of two levels, with columns that a page chooses."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

from PySide6.QtCore import QAbstractItemModel, QModelIndex, QPersistentModelIndex, Qt
from PySide6.QtWidgets import QAbstractItemView, QHeaderView, QTreeView

from wendascope.desktop.copying import CopiesText
from wendascope.desktop.models.document import Document
from wendascope.desktop.share_bar import BAR, ShareDelegate
from wendascope.desktop.theme import figures_font, pass_colour

Index = QModelIndex | QPersistentModelIndex


@dataclass(frozen=True)
class Column:
    """One column: its title with the unit, and how values become text. Values of None are shown empty."""

    title: str
    of_pass: Callable[[int], float | None]
    of_step: Callable[[int], float | None]
    text: Callable[[float], str]
    width: int = 80
    share: bool = False
    """Draw a bar behind the figure."""
    tip: str = ""


class PassTableModel(QAbstractItemModel):
    """Rows of the first level are passes; their children are steps. Rows of steps carry their pass as pointer."""

    def __init__(self, columns: Sequence[Column]) -> None:
        super().__init__()
        self.columns = list(columns)
        self._document: Document | None = None
        self._passes: list[int] = []
        self._steps: dict[int, list[int]] = {}
        self._sort: tuple[int, bool] = (1, True)
        self._of_pass: dict[tuple[int, int], float | None] = {}
        """(column, pass) -> its value, which sums up all steps of the pass."""

    def show_document(self, document: Document | None) -> None:
        self.beginResetModel()
        self._document = document
        self._of_pass.clear()
        self._order()
        self.endResetModel()

    def _order(self) -> None:
        self._steps.clear()
        count = len(self._document.frame.passes) if self._document else 0
        self._passes = self._sorted(list(range(count)), False)

    def _sorted(self, rows: list[int], steps: bool) -> list[int]:
        number, descending = self._sort
        if number == 0:
            return rows[::-1] if descending else rows
        return sorted(
            rows, key=lambda row: -1.0 if (v := self._value(steps, row, number)) is None else v, reverse=descending
        )

    def _value(self, is_step: bool, row: int, column: int) -> float | None:
        chosen = self.columns[column - 1]
        if is_step:
            return chosen.of_step(row)
        if (column, row) not in self._of_pass:
            self._of_pass[column, row] = chosen.of_pass(row)
        return self._of_pass[column, row]

    def steps_of(self, index: int) -> list[int]:
        if index not in self._steps:
            assert self._document is not None
            table = self._document.frame.passes
            self._steps[index] = self._sorted(list(range(int(table.first[index]), int(table.end[index]))), True)
        return self._steps[index]

    # ---- Qt's questions ------------------------------------------------------------------------------

    def index(self, row: int, column: int, parent: Index = QModelIndex()) -> QModelIndex:  # noqa: B008
        if not self.hasIndex(row, column, parent):
            return QModelIndex()
        return self.createIndex(row, column, self._passes[parent.row()] + 1 if parent.isValid() else 0)

    def parent(self, child: Index) -> QModelIndex:  # type: ignore[override]
        owner = int(child.internalId()) if child.isValid() else 0
        return self.createIndex(self._passes.index(owner - 1), 0, 0) if owner else QModelIndex()

    def rowCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        if not parent.isValid():
            return len(self._passes)
        if parent.internalId() or parent.column() > 0:
            return 0
        return len(self.steps_of(self._passes[parent.row()]))

    def columnCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        return 1 + len(self.columns)

    def place(self, index: Index) -> tuple[bool, int]:
        """(whether it is a step, its number) of a row."""
        owner = int(index.internalId())
        return (True, self.steps_of(owner - 1)[index.row()]) if owner else (False, self._passes[index.row()])

    def index_of(self, step: int) -> QModelIndex:
        assert self._document is not None
        owner = int(self._document.frame.passes.of_step[step])
        return self.createIndex(self.steps_of(owner).index(step), 0, owner + 1)

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if orientation != Qt.Orientation.Horizontal:
            return None
        if role == Qt.ItemDataRole.DisplayRole:
            number, descending = self._sort
            mark = (" ↓" if descending else " ↑") if section == number else ""
            return ("pass / step" if section == 0 else self.columns[section - 1].title) + mark
        if role == Qt.ItemDataRole.TextAlignmentRole:
            return Qt.AlignmentFlag.AlignVCenter | (
                Qt.AlignmentFlag.AlignRight if section else Qt.AlignmentFlag.AlignLeft
            )
        if role == Qt.ItemDataRole.ToolTipRole and section:
            return self.columns[section - 1].tip or None
        return None

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if self._document is None or not index.isValid():
            return None
        is_step, number = self.place(index)
        if role == Qt.ItemDataRole.DisplayRole:
            return self.text(is_step, number, index.column())
        if role == Qt.ItemDataRole.TextAlignmentRole and index.column():
            return Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        if role == Qt.ItemDataRole.DecorationRole and index.column() == 0 and not is_step:
            return pass_colour(number)
        if role == BAR and index.column() and self.columns[index.column() - 1].share:
            share = self._value(is_step, number, index.column())
            return None if share is None else (share, True)
        return None

    def text(self, is_step: bool, number: int, column: int) -> str:
        assert self._document is not None
        if column == 0:
            return (
                f"{number}  {self._document.frame.step_name(number)}"
                if is_step
                else self._document.frame.passes.names[number]
            )
        value = self._value(is_step, number, column)
        return "" if value is None else self.columns[column - 1].text(value)

    def sort(self, column: int, order: Qt.SortOrder = Qt.SortOrder.AscendingOrder) -> None:
        self.beginResetModel()
        self._sort = (column, order == Qt.SortOrder.DescendingOrder)
        self._order()
        self.endResetModel()


class PassTable(CopiesText, QTreeView):
    """The view: follows the selection of a document and chooses in it."""

    def __init__(self, columns: Sequence[Column], name: str) -> None:
        super().__init__()
        self.rows = PassTableModel(columns)
        self._document: Document | None = None
        self._following = False
        self.setModel(self.rows)
        self.setUniformRowHeights(True)
        self.setIndentation(12)
        self.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        self.setSortingEnabled(True)
        self.setFont(figures_font())
        self.setAccessibleName(name)
        header = self.header()
        header.setSortIndicatorShown(False)
        header.setStretchLastSection(False)
        header.setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        for number, column in enumerate(columns, 1):
            header.resizeSection(number, column.width)
            if column.share:
                self.setItemDelegateForColumn(number, ShareDelegate(self))
        self.sortByColumn(1, Qt.SortOrder.DescendingOrder)
        self.selectionModel().currentChanged.connect(self._chosen)

    def show_document(self, document: Document | None) -> None:
        """Follow a document; called again when what was measured on it changes."""
        if document is not self._document and document is not None:
            document.selection.listen(self._follow)
        self._document = document
        self.rows.show_document(document)
        self._follow()

    def _chosen(self, current: QModelIndex, _before: QModelIndex) -> None:
        if self._document is None or self._following or not current.isValid():
            return
        is_step, number = self.rows.place(current)
        # a pass stands for what it ends up with
        self._document.selection.choose(number if is_step else int(self._document.frame.passes.end[number]) - 1)

    def _follow(self) -> None:
        step = self._document.selection.step if self._document else None
        if step is None or self._document is None:
            return
        current = self.currentIndex()
        if current.isValid():
            is_step, number = self.rows.place(current)
            if (number if is_step else int(self._document.frame.passes.end[number]) - 1) == step:
                return
        self._following = True
        index = self.rows.index_of(step)
        self.setCurrentIndex(index)
        self.scrollTo(index, QAbstractItemView.ScrollHint.PositionAtCenter)
        self._following = False

    def as_text(self) -> str:
        """Selected rows, or all passes when none is selected, with the header, tab-separated."""
        chosen = self.selectionModel().selectedRows() or [self.rows.index(r, 0) for r in range(self.rows.rowCount())]
        columns = range(self.rows.columnCount())
        lines = ["\t".join(["pass / step", *(c.title for c in self.rows.columns)])]
        lines += ["\t".join(self.rows.text(*self.rows.place(row), column) for column in columns) for row in chosen]
        return "\n".join(lines)
