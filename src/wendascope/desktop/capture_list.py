"""The captures of a capture session: pictures, figures, the difference to a baseline, and a note on each."""

from __future__ import annotations

import re
import threading
from pathlib import Path
from typing import Any

import numpy as np
from PySide6.QtCore import QAbstractTableModel, QModelIndex, QObject, QPersistentModelIndex, QSize, Qt, Signal
from PySide6.QtGui import QColor, QGuiApplication, QImage, QKeySequence, QPixmap
from PySide6.QtWidgets import QAbstractItemView, QHeaderView, QMenu, QTableView

from wendascope import records
from wendascope.desktop.models.session import CaptureRow, SessionModel
from wendascope.desktop.theme import GRID, figures_font, theme
from wendascope.errors import WendascopeError
from wendascope.frame import file
from wendascope.frame.notes import Note

Index = QModelIndex | QPersistentModelIndex
_COLUMNS = ("capture", "frame", "ms", "to baseline", "steps", "passes", "MB", "note")
_WIDTHS = {"capture": 176, "frame": 56, "ms": 64, "to baseline": 192, "steps": 72, "passes": 56, "MB": 48}
THUMBNAIL = (80, 45)


def stored_note(path: Path) -> str:
    """The last note in a file, or nothing. Raises FileError."""
    note = records.NOTE.newest(path)
    return note.text if note else ""


class FileReader(QObject):
    """Reads thumbnails and frame times of capture files, off the interface thread."""

    ready = Signal(object, object, object, str)
    """(path, thumbnail or None, frame times in ms, note)"""

    def read(self, path: Path) -> None:
        threading.Thread(target=self._read, args=(path,), name="thumbnail", daemon=True).start()

    def _read(self, path: Path) -> None:
        try:
            frame = file.load(path)
            note = stored_note(path)
        except WendascopeError:
            return
        thumbnail = None
        if frame.reference is not None:
            pixels = frame.reference.pixels[::-1, :, :3]
            shrink = max(1, int(np.ceil(max(pixels.shape[1] / THUMBNAIL[0], pixels.shape[0] / THUMBNAIL[1]))))
            height, width = pixels.shape[0] // shrink * shrink, pixels.shape[1] // shrink * shrink
            blocks = pixels[:height, :width].reshape(height // shrink, shrink, width // shrink, shrink, 3)
            thumbnail = np.ascontiguousarray(blocks.mean(axis=(1, 3)).astype(np.uint8))
        times = np.array([(b.cpu_ns + b.swap_ns) / 1e6 for b in frame.heartbeats])
        self.ready.emit(path, thumbnail, times, note)


class CaptureModel(QAbstractTableModel):
    def __init__(self, session: SessionModel) -> None:
        super().__init__()
        self.session = session
        self._pictures: dict[Path, QPixmap] = {}
        self._shown = 0

    def refresh(self) -> None:
        """Follow the capture session: rows are only ever added."""
        count = len(self.session.rows)
        if count > self._shown:
            self.beginInsertRows(QModelIndex(), self._shown, count - 1)
            self._shown = count
            self.endInsertRows()
        if count:
            self.dataChanged.emit(self.index(0, 0), self.index(count - 1, len(_COLUMNS) - 1))

    def rowCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        return 0 if parent.isValid() else self._shown

    def columnCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        return len(_COLUMNS)

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if orientation != Qt.Orientation.Horizontal:
            return None
        if role == Qt.ItemDataRole.DisplayRole:
            return _COLUMNS[section]
        if role == Qt.ItemDataRole.TextAlignmentRole:
            left = _COLUMNS[section] in ("capture", "note")
            return (Qt.AlignmentFlag.AlignLeft if left else Qt.AlignmentFlag.AlignRight) | Qt.AlignmentFlag.AlignVCenter
        if role == Qt.ItemDataRole.ToolTipRole:
            return {
                "ms": "Median of the program's own frames before the capture",
                "to baseline": (
                    "Difference of the medians with its 95 % interval; said to be a change only when that excludes zero"
                ),
                "note": "Double-click or F2 to write; kept in the file",
            }.get(_COLUMNS[section])
        return None

    def row(self, index: Index) -> CaptureRow:
        return self.session.rows[index.row()]

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if not index.isValid():
            return None
        row, column = self.row(index), _COLUMNS[index.column()]
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.EditRole):
            return self.text(row, column)
        if role == Qt.ItemDataRole.TextAlignmentRole:
            left = column in ("capture", "note")
            return (Qt.AlignmentFlag.AlignLeft if left else Qt.AlignmentFlag.AlignRight) | Qt.AlignmentFlag.AlignVCenter
        if role == Qt.ItemDataRole.DecorationRole and column == "capture":
            return self._picture(row)
        if role == Qt.ItemDataRole.ToolTipRole:
            taken = row.taken
            caveats = "".join(f"\ncaveat: {c}" for c in taken.caveats)
            return (
                f"{taken.file}\ntarget paused {taken.held_seconds:.2f} s, taken in {taken.capture_seconds:.2f}"
                f" s{caveats}"
            )
        if role == Qt.ItemDataRole.ForegroundRole and column == "to baseline":
            found = self.session.difference(row)
            return QColor(theme().ink if found and (found.low > 0 or found.high < 0) else theme().soft)
        return None

    def text(self, row: CaptureRow, column: str) -> str:
        """One cell as it is shown and copied."""
        taken = row.taken
        match column:
            case "capture":
                # the time tells captures of one program apart; the tip has the whole path
                when = re.search(r"-(\d\d)(\d\d)(\d\d)-(\d+)$", row.path.stem)
                number = "" if when is None or when[4] == "01" else f" {int(when[4])}"
                return row.path.stem if when is None else f"{when[1]}:{when[2]}:{when[3]}{number}"
            case "frame":
                return f"{taken.frame:,}"
            case "ms":
                return "" if taken.target_ms is None else f"{taken.target_ms:.2f}"
            case "to baseline":
                if row.path == self.session.baseline:
                    return "baseline"
                found = self.session.difference(row)
                if found is None:
                    return ""
                said = "" if found.low > 0 or found.high < 0 else "same: "
                return f"{said}{found.median:+.1f} ({found.low:+.1f} to {found.high:+.1f})"
            case "steps":
                return f"{taken.steps:,}"
            case "passes":
                return f"{taken.passes:,}"
            case "MB":
                return f"{taken.bytes / 1e6:.1f}"
        return row.note

    def _picture(self, row: CaptureRow) -> QPixmap | None:
        if row.thumbnail is None:
            return None
        if row.path not in self._pictures:
            height, width, _ = row.thumbnail.shape
            image = QImage(row.thumbnail.data, width, height, 3 * width, QImage.Format.Format_RGB888)
            self._pictures[row.path] = QPixmap.fromImage(image.copy())
        return self._pictures[row.path]

    def flags(self, index: Index) -> Qt.ItemFlag:
        found = super().flags(index)
        return found | Qt.ItemFlag.ItemIsEditable if _COLUMNS[index.column()] == "note" else found

    def setData(self, index: Index, value: Any, role: int = Qt.ItemDataRole.EditRole) -> bool:
        if role != Qt.ItemDataRole.EditRole or _COLUMNS[index.column()] != "note":
            return False
        row, text = self.row(index), str(value).strip()
        if text == row.note:
            return False
        try:
            records.NOTE.keep(row.path, Note(text))
        except WendascopeError as error:
            self.session.problem = str(error)
            self.session.changed()
            return False
        row.note = text
        self.dataChanged.emit(index, index)
        return True


class CaptureTable(QTableView):
    """Double-click opens, except on the note, where it writes."""

    opened = Signal(object)
    compared = Signal(object)

    def __init__(self, session: SessionModel) -> None:
        super().__init__()
        self._session = session
        self.captures = CaptureModel(session)
        self.setModel(self.captures)
        self.setFont(figures_font())
        self.setIconSize(QSize(*THUMBNAIL))
        self.setShowGrid(False)
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.setEditTriggers(QAbstractItemView.EditTrigger.EditKeyPressed | QAbstractItemView.EditTrigger.DoubleClicked)
        self.setAccessibleName("Captures of this session")
        self.verticalHeader().hide()
        self.verticalHeader().setDefaultSectionSize(THUMBNAIL[1] + GRID)
        header = self.horizontalHeader()
        header.setHighlightSections(False)
        header.setSectionResizeMode(len(_COLUMNS) - 1, QHeaderView.ResizeMode.Stretch)
        for i, name in enumerate(_COLUMNS):
            if name in _WIDTHS:
                header.resizeSection(i, _WIDTHS[name])
        self.doubleClicked.connect(self._double_clicked)
        self.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        self.customContextMenuRequested.connect(self._menu)
        self._reader = FileReader()
        self._reader.ready.connect(self._read)
        session.listen(self.captures.refresh)

    def fetch(self, rows: list[CaptureRow]) -> None:
        """Read the files of new captures in the background."""
        for row in rows:
            self._reader.read(row.path)

    def chosen(self) -> list[CaptureRow]:
        return [self.captures.row(index) for index in self.selectionModel().selectedRows()]

    def _read(self, path: Path, thumbnail: Any, times: Any, note: str) -> None:
        for row in self._session.rows:
            if row.path == path:
                row.thumbnail, row.frame_ms, row.note = thumbnail, times, note
        self.captures.refresh()

    def _double_clicked(self, index: QModelIndex) -> None:
        if _COLUMNS[index.column()] != "note":
            self.opened.emit(self.captures.row(index).path)

    def _menu(self, at: Any) -> None:
        index = self.indexAt(at)
        if not index.isValid():
            return
        row = self.captures.row(index)
        menu = QMenu(self)
        menu.addAction("Open", lambda: self.opened.emit(row.path))
        menu.addAction("Use as baseline", lambda: self.use_as_baseline(row))
        menu.addAction("Compare with the baseline", lambda: self.compared.emit(row.path)).setEnabled(
            row.path != self._session.baseline
        )
        menu.addAction("Write a note", lambda: self.edit(self.captures.index(index.row(), len(_COLUMNS) - 1)))
        menu.addAction("Copy the path", lambda: QGuiApplication.clipboard().setText(str(row.path)))
        menu.exec(self.viewport().mapToGlobal(at))

    def use_as_baseline(self, row: CaptureRow) -> None:
        self._session.baseline = row.path
        self._session.changed()

    def keyPressEvent(self, event: Any) -> None:
        if event.matches(QKeySequence.StandardKey.Copy):
            rows = self.chosen() or self._session.rows
            lines = ["\t".join(_COLUMNS), *("\t".join(self.captures.text(row, c) for c in _COLUMNS) for row in rows)]
            QGuiApplication.clipboard().setText("\n".join(lines))
        elif (
            event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter)
            and self.state() != QAbstractItemView.State.EditingState
        ):
            for row in self.chosen()[:1]:
                self.opened.emit(row.path)
        else:
            super().keyPressEvent(event)
