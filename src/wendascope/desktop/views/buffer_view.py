"""The elements of a buffer as one of its readers sees them, in a table that makes texts when they are looked at."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from PySide6.QtCore import QAbstractTableModel, QModelIndex, QPersistentModelIndex, QSignalBlocker, Qt
from PySide6.QtWidgets import QComboBox, QFileDialog, QPushButton, QTableView, QWidget

from wendascope.desktop.widgets.answer import lay_out
from wendascope.desktop.widgets.copying import CopiesText
from wendascope.desktop.widgets.plain import Label
from wendascope.desktop.widgets.theme import GRID, figures_font
from wendascope.errors import WendascopeError
from wendascope.files import write_atomically
from wendascope.frame.contents import BufferLayout
from wendascope.frame.memory import MemoryItem
from wendascope.report.object_files import elements_csv
from wendascope.texts import plural, visible

Index = QModelIndex | QPersistentModelIndex
_BYTES = [BufferLayout("words of 32 bits", 4)]
_MOST_COPIED = 10_000


class _Elements(QAbstractTableModel):
    """Elements of a buffer as one layout reads them; texts are made when they are looked at."""

    def __init__(self) -> None:
        super().__init__()
        self._data = b""
        self.layout = _BYTES[0]
        self._count = 0

    def show_layout(self, data: bytes, layout: BufferLayout) -> None:
        self.beginResetModel()
        self._data, self.layout = data, layout
        self._count = layout.count(len(data)) if layout.columns else -(-len(data) // 16)
        self.endResetModel()

    def rowCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        return 0 if parent.isValid() else self._count

    def columnCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        return 0 if parent.isValid() else 1 + (len(self.layout.columns) or 1)

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if orientation != Qt.Orientation.Horizontal or role != Qt.ItemDataRole.DisplayRole:
            return None
        if not self.layout.columns:
            return ("byte", "sixteen bytes, hexadecimal")[section]
        return "element" if section == 0 else self.layout.columns[section - 1].name

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if role == Qt.ItemDataRole.TextAlignmentRole and index.column() == 0:
            return Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        if role != Qt.ItemDataRole.DisplayRole:
            return None
        return self.cells(index.row())[index.column()]

    def cells(self, row: int) -> list[str]:
        if not self.layout.columns:
            return [f"{16 * row:,}", self._data[16 * row : 16 * row + 16].hex(" ", 4)]
        return [f"{row:,}", *self.layout.element(self._data, row)]


class _ElementsTable(CopiesText, QTableView):
    def __init__(self, elements: _Elements) -> None:
        super().__init__()
        self._elements = elements
        self.setModel(elements)
        self.setFont(figures_font())
        self.setShowGrid(False)
        self.setAccessibleName("Elements of the buffer")
        self.setSelectionBehavior(QTableView.SelectionBehavior.SelectRows)
        self.verticalHeader().hide()
        self.verticalHeader().setDefaultSectionSize(3 * GRID)
        self.horizontalHeader().setHighlightSections(False)
        self.horizontalHeader().setStretchLastSection(True)

    def as_text(self) -> str:
        chosen = [i.row() for i in self.selectionModel().selectedRows()]
        rows = chosen or range(min(self._elements.rowCount(), _MOST_COPIED))
        head = [
            str(self._elements.headerData(k, Qt.Orientation.Horizontal)) for k in range(self._elements.columnCount())
        ]
        return "\n".join("\t".join(line) for line in (head, *(self._elements.cells(row) for row in rows)))


class BufferContentsView(QWidget):
    """The elements of a buffer, in one of the ways in which the frame reads it."""

    def __init__(self) -> None:
        super().__init__()
        self._data = b""
        self._item: MemoryItem | None = None
        self._layouts: list[BufferLayout] = []
        self.layouts, self.told = QComboBox(), Label()
        self.layouts.setAccessibleName("Read as")
        self.elements = _Elements()
        self.table = _ElementsTable(self.elements)
        self.save = QPushButton("Save ...")
        self.save.setToolTip("As comma-separated values, or as bytes")
        lay_out(self, [self.layouts, self.save], self.told, self.table)
        self.save.clicked.connect(self._save)
        self.layouts.currentIndexChanged.connect(self._show)

    def show_buffer(self, item: MemoryItem, data: bytes, layouts: list[BufferLayout]) -> None:
        """Layouts come with the most used first; bytes as they are come last."""
        self._item = item
        self._data, self._layouts = data, [*layouts, *_BYTES]
        with QSignalBlocker(self.layouts):
            self.layouts.clear()
            self.layouts.addItems([visible(layout.name) for layout in self._layouts])
        self.told.setText(f"{item.title}, {plural(len(data), 'byte')}, as the frame finds it")
        self._show()

    def _save(self) -> None:
        start = f"buffer-{self._item.name}.csv" if self._item else ""
        name, _ = QFileDialog.getSaveFileName(self, "Save the buffer", start, "CSV (*.csv);;Bytes (*.bin)")
        if name:
            self.save_to(Path(name))

    def save_to(self, path: Path) -> None:
        """Write elements as the chosen layout reads them, or all bytes."""
        layout = self._layouts[max(self.layouts.currentIndex(), 0)]
        data = self._data if path.suffix != ".csv" or not layout.columns else elements_csv(self._data, layout).encode()
        try:
            write_atomically(path, lambda scratch: scratch.write_bytes(data))
        except WendascopeError as error:
            self.told.setText(str(error))
        else:
            self.told.setText(f"Saved as {path}")

    def _show(self) -> None:
        place = self.layouts.currentIndex()
        if 0 <= place < len(self._layouts):
            self.elements.show_layout(self._data, self._layouts[place])
            self.table.resizeColumnsToContents()
