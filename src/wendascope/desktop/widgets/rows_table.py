"""A table of rows that sorts by any column and copies itself as text; a bar behind a figure shows its share."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any, Generic, TypeVar

from PySide6.QtCore import QAbstractTableModel, QModelIndex, QPersistentModelIndex, Qt, Signal
from PySide6.QtGui import QColor, QPainter, QPaintEvent, QResizeEvent
from PySide6.QtWidgets import QAbstractItemView, QHeaderView, QTableView

from wendascope.desktop.charts.share_bar import BAR, ShareDelegate
from wendascope.desktop.widgets.copying import CopiesText
from wendascope.desktop.widgets.plain import plain_tip
from wendascope.desktop.widgets.room import Taken, hide_what_gives_way
from wendascope.desktop.widgets.theme import GRID, figures_font, theme
from wendascope.texts import visible

Row = TypeVar("Row")
_MEASURED = 200
"""Rows whose figures decide how wide a column is."""
_LEAST_NAME = 18 * GRID
"""Pixels for the column that takes what room is left, before others give way."""
Index = QModelIndex | QPersistentModelIndex


@dataclass(frozen=True)
class Column(Generic[Row]):
    """One column: `width` 0 takes what room is left. Without `key` it sorts by its text."""

    title: str
    width: int
    text: Callable[[Row], str]
    key: Callable[[Row], Any] | None = None
    """What to sort by; None sorts last."""
    tip: str = ""
    right: bool = True
    bar: Callable[[Row], float] | None = None
    """Share of a bar behind the text, 0 to 1."""
    measured: Callable[[Row], bool] = lambda _row: True
    """Whether the bar is of something measured: solid, else dotted."""
    soft: Callable[[Row], bool] | None = None
    """Whether this cell is in softer ink, whatever its row is."""
    icon: Callable[[Row], Any] | None = None
    """A picture or colour before the text."""
    write: Callable[[Row, str], bool] | None = None
    """Takes what the user wrote into the cell; whether anything changed."""
    gives_way: bool = False
    """Hidden where there is no room for it beside what takes the room that is left."""
    copied: Callable[[Row], str] | None = None
    """The text for the clipboard, where it says more than there is room for."""


class RowsModel(QAbstractTableModel, Generic[Row]):
    """`sort` is a column and whether the largest comes first; None leaves rows as they come."""

    def __init__(self, columns: Sequence[Column[Row]], sort: tuple[int, bool] | None = None) -> None:
        super().__init__()
        self.columns = list(columns)
        self.rows: list[Row] = []
        self._sort = sort
        self._given: list[Row] = []
        self.tinted: Callable[[Row], bool] = lambda _row: False
        """Rows that are shown on another ground."""
        self.soft: Callable[[Row], bool] = lambda _row: False
        """Rows that are shown in softer ink."""
        self.tip: Callable[[Row], str] = lambda _row: ""

    def show_rows(self, rows: Sequence[Row]) -> None:
        """Take new rows. What is chosen stays so where rows are only added at the end."""
        old = self.rows
        same = len(rows) >= len(old) and all(a is b for a, b in zip(old, rows, strict=False))
        if self._sort is None and old and same:
            if len(rows) > len(old):
                self.beginInsertRows(QModelIndex(), len(old), len(rows) - 1)
                self._given, self.rows = list(rows), list(rows)
                self.endInsertRows()
            self.repaint_rows()
            return
        self.beginResetModel()
        self._given = list(rows)
        self._arrange()
        self.endResetModel()

    def show_columns(self, columns: Sequence[Column[Row]], rows: Sequence[Row]) -> None:
        """Take other columns with their rows."""
        self.beginResetModel()
        self.columns = list(columns)
        self._given = list(rows)
        self._arrange()
        self.endResetModel()

    def _arrange(self) -> None:
        if self._sort is None:
            self.rows = list(self._given)
            return
        column = self.columns[self._sort[0]]
        self.rows = self.arranged(self._given, column.key or column.text, self._sort[1])

    def arranged(self, rows: list[Row], key: Callable[[Row], Any], descending: bool) -> list[Row]:
        known = [row for row in rows if key(row) is not None]
        return sorted(known, key=key, reverse=descending) + [row for row in rows if key(row) is None]

    def sort(self, column: int, order: Qt.SortOrder = Qt.SortOrder.AscendingOrder) -> None:
        if not 0 <= column < len(self.columns):
            return
        self.beginResetModel()
        self._sort = (column, order == Qt.SortOrder.DescendingOrder)
        self._arrange()
        self.endResetModel()

    def repaint_rows(self) -> None:
        """After `tinted` or `soft` would answer otherwise."""
        if self.rows:
            self.dataChanged.emit(self.index(0, 0), self.index(len(self.rows) - 1, len(self.columns) - 1))

    def rowCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        return 0 if parent.isValid() else len(self.rows)

    def columnCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        return 0 if parent.isValid() else len(self.columns)

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if orientation != Qt.Orientation.Horizontal:
            return section if role == Qt.ItemDataRole.DisplayRole else None
        column = self.columns[section]
        if role == Qt.ItemDataRole.DisplayRole:
            mark = "" if self._sort is None or section != self._sort[0] else " ↓" if self._sort[1] else " ↑"
            return column.title + mark
        if role == Qt.ItemDataRole.TextAlignmentRole:
            return Qt.AlignmentFlag.AlignVCenter | (
                Qt.AlignmentFlag.AlignRight if column.right else Qt.AlignmentFlag.AlignLeft
            )
        return (column.tip or None) if role == Qt.ItemDataRole.ToolTipRole else None

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        row, column = self.rows[index.row()], self.columns[index.column()]
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.EditRole):
            return visible(column.text(row)) if role == Qt.ItemDataRole.DisplayRole else column.text(row)
        if role == Qt.ItemDataRole.DecorationRole and column.icon is not None:
            return column.icon(row)
        if role == Qt.ItemDataRole.TextAlignmentRole and column.right:
            return Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        if role == Qt.ItemDataRole.BackgroundRole and self.tinted(row):
            return QColor(theme().bar)
        if role == Qt.ItemDataRole.ForegroundRole and (column.soft(row) if column.soft else self.soft(row)):
            return QColor(theme().soft)
        if role == Qt.ItemDataRole.ToolTipRole:
            return plain_tip(self.tip(row)) or None
        if role == BAR and column.bar is not None:
            return column.bar(row), column.measured(row)
        return None

    def flags(self, index: Index) -> Qt.ItemFlag:
        flags = super().flags(index)
        return flags if self.columns[index.column()].write is None else flags | Qt.ItemFlag.ItemIsEditable

    def setData(self, index: Index, value: Any, role: int = Qt.ItemDataRole.EditRole) -> bool:
        write = self.columns[index.column()].write
        if role != Qt.ItemDataRole.EditRole or write is None or not write(self.rows[index.row()], str(value).strip()):
            return False
        self.dataChanged.emit(index, index)
        return True

    def as_text(self, chosen: Sequence[int]) -> str:
        """Tab-separated rows, all where none are chosen, with the header."""
        rows = [self.rows[k] for k in chosen] or self.rows
        cells = [[(c.copied or c.text)(row) for c in self.columns] for row in rows]
        return "\n".join("\t".join(line) for line in ([c.title for c in self.columns], *cells))


class RowsTable(CopiesText, QTableView, Generic[Row]):
    """Shows a RowsModel. `name` is for those who do not see it."""

    chosen_changed = Signal(object)
    """The chosen row, or None."""
    hovered = Signal(object)
    """The row under the pointer, or None."""

    def __init__(
        self, model: RowsModel[Row], name: str, sortable: bool = True, several: bool = False, empty: str = ""
    ) -> None:
        """`empty` says what fills the table, while nothing does."""
        super().__init__()
        self.rows = model
        self.empty = empty
        self.setModel(model)
        self.setFont(figures_font())
        self.setShowGrid(False)
        self.setWordWrap(False)
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        mode = QAbstractItemView.SelectionMode
        self.setSelectionMode(mode.ExtendedSelection if several else mode.SingleSelection)
        self.setItemDelegate(ShareDelegate(self))
        self.setAccessibleName(name)
        self.setMouseTracking(True)
        self.setMinimumHeight(10 * GRID)
        self.verticalHeader().hide()
        self.verticalHeader().setDefaultSectionSize(3 * GRID)
        self.setEditTriggers(QAbstractItemView.EditTrigger.EditKeyPressed | QAbstractItemView.EditTrigger.DoubleClicked)
        header = self.horizontalHeader()
        header.setSortIndicatorShown(False)
        header.setHighlightSections(False)
        self.fit_columns()
        if sortable:
            header.setSectionsClickable(True)
            header.sectionClicked.connect(self._sort_by)
        model.modelReset.connect(self._widen)
        self.selectionModel().currentRowChanged.connect(lambda *_: self.chosen_changed.emit(self.chosen))
        self.entered.connect(lambda index: self.hovered.emit(self.rows.rows[index.row()]))

    def fit_columns(self) -> None:
        """Give the columns of the model their widths."""
        header = self.horizontalHeader()
        for number, column in enumerate(self.rows.columns):
            if column.width:
                header.resizeSection(number, column.width)
            else:
                header.setSectionResizeMode(number, QHeaderView.ResizeMode.Stretch)

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._make_room()

    def _make_room(self) -> None:
        header = self.horizontalHeader()
        columns = [
            Taken(number, max(column.width, header.sectionSize(number)), column.gives_way)
            for number, column in enumerate(self.rows.columns)
            if column.width
        ]
        hide_what_gives_way(self, columns, _LEAST_NAME)

    def _widen(self) -> None:
        """Figures are never cut: a column that holds some is as wide as the widest of them."""
        metrics, header = self.fontMetrics(), self.horizontalHeader()
        for number, column in enumerate(self.rows.columns):
            if column.width and column.right:
                texts = {column.text(row) for row in self.rows.rows[:_MEASURED]}
                needed = max((metrics.horizontalAdvance(text) for text in texts), default=0) + 2 * GRID
                if needed > header.sectionSize(number) and not self.isColumnHidden(number):
                    header.resizeSection(number, needed)
        self._make_room()

    def _sort_by(self, column: int) -> None:
        kept = self.chosen
        now = self.rows._sort
        descending = not now[1] if now and now[0] == column else self.rows.columns[column].right
        self.rows.sort(column, Qt.SortOrder.DescendingOrder if descending else Qt.SortOrder.AscendingOrder)
        if kept is not None:
            self.choose(kept)

    @property
    def chosen(self) -> Row | None:
        row = self.currentIndex().row()
        return self.rows.rows[row] if 0 <= row < len(self.rows.rows) else None

    @property
    def all_chosen(self) -> list[Row]:
        return [self.rows.rows[i.row()] for i in self.selectionModel().selectedRows()]

    def choose(self, row: Row) -> None:
        if row in self.rows.rows:
            self.selectRow(self.rows.rows.index(row))

    def as_text(self) -> str:
        return self.rows.as_text([i.row() for i in self.selectionModel().selectedRows()])

    def paintEvent(self, event: QPaintEvent) -> None:
        super().paintEvent(event)
        if self.empty and not self.rows.rows:
            painter = QPainter(self.viewport())
            painter.setPen(QColor(theme().soft))
            room = self.viewport().rect().adjusted(2 * GRID, GRID, -2 * GRID, -GRID)
            painter.drawText(room, Qt.AlignmentFlag.AlignHCenter | Qt.TextFlag.TextWordWrap, self.empty)
            painter.end()

    def leaveEvent(self, event: Any) -> None:
        super().leaveEvent(event)
        self.hovered.emit(None)
