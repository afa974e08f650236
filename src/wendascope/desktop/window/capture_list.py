"""The captures of a capture session: pictures, figures, the difference to a baseline, and a note on each."""

from __future__ import annotations

import re
import threading
from pathlib import Path
from typing import Any

import numpy as np
from PySide6.QtCore import QModelIndex, QObject, QSize, Qt, Signal
from PySide6.QtGui import QGuiApplication, QImage, QPixmap
from PySide6.QtWidgets import QAbstractItemView, QMenu

from wendascope import records
from wendascope.desktop.models.session import CaptureRow, SessionModel
from wendascope.desktop.widgets.rows_table import Column, RowsModel, RowsTable
from wendascope.desktop.widgets.theme import GRID
from wendascope.errors import WendascopeError
from wendascope.frame import file
from wendascope.frame.notes import WHOLE_FRAME, Note, newest_notes

THUMBNAIL = (80, 45)


def stored_note(path: Path) -> str:
    """The last note on the frame of a file, or nothing. Raises FileError."""
    return newest_notes(records.NOTE.all(path)).get(WHOLE_FRAME, "")


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
        times = np.array([(b.cpu_ns + b.swap_ns) / 1e6 for b in frame.frame_statistics])
        self.ready.emit(path, thumbnail, times, note)


def _time(row: CaptureRow) -> str:
    """The time tells captures of one program apart; the tip has the whole path."""
    when = re.search(r"-(\d\d)(\d\d)(\d\d)-(\d+)$", row.path.stem)
    number = "" if when is None or when[4] == "01" else f" {int(when[4])}"
    return row.path.stem if when is None else f"{when[1]}:{when[2]}:{when[3]}{number}"


def _tip(row: CaptureRow) -> str:
    taken = row.taken
    caveats = "".join(f"\ncaveat: {c}" for c in taken.caveats)
    return f"{taken.file}\ntarget paused {taken.held_seconds:.2f} s, taken in {taken.capture_seconds:.2f} s{caveats}"


class CaptureTable(RowsTable[CaptureRow]):
    """Double-click opens, except on the note, where it writes."""

    opened = Signal(object)
    compared = Signal(object)

    def __init__(self, session: SessionModel) -> None:
        self._session = session
        self._pictures: dict[Path, QPixmap] = {}
        super().__init__(
            RowsModel(self._columns()),
            "Captures of this session",
            sortable=False,
            several=True,
            empty="Frames that you take are listed here, with their pictures and how they compare with the first.",
        )
        self.rows.tip = _tip
        self.setIconSize(QSize(*THUMBNAIL))
        self.verticalHeader().setDefaultSectionSize(THUMBNAIL[1] + GRID)
        self.doubleClicked.connect(self._double_clicked)
        self.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        self.customContextMenuRequested.connect(self._menu)
        self._reader = FileReader()
        self._reader.ready.connect(self._read)
        session.listen(lambda: self.rows.show_rows(session.rows))

    def _columns(self) -> list[Column[CaptureRow]]:
        def changed(row: CaptureRow) -> bool:
            difference = self._session.difference(row)
            return difference is not None and (difference.low > 0 or difference.high < 0)

        def to_baseline(row: CaptureRow) -> str:
            if row.path == self._session.baseline:
                return "baseline"
            difference = self._session.difference(row)
            if difference is None:
                return ""
            same = "" if changed(row) else "same: "
            return f"{same}{difference.median:+.1f} ({difference.low:+.1f} to {difference.high:+.1f})"

        return [
            Column("capture", 176, _time, right=False, icon=self._picture),
            Column("frame", 56, lambda row: f"{row.taken.frame:,}"),
            Column(
                "ms",
                64,
                lambda row: "" if row.taken.target_ms is None else f"{row.taken.target_ms:.2f}",
                tip="Median of the program's own frames before the capture",
            ),
            Column(
                "to baseline",
                192,
                to_baseline,
                soft=lambda row: not changed(row),
                tip="Difference of the medians with its 95 % interval; a change only where that excludes zero",
            ),
            Column("steps", 72, lambda row: f"{row.taken.steps:,}"),
            Column("passes", 56, lambda row: f"{row.taken.passes:,}"),
            Column("MB", 48, lambda row: f"{row.taken.bytes / 1e6:.1f}"),
            Column(
                "note",
                0,
                lambda row: row.note,
                right=False,
                write=self._write_note,
                tip="Double-click or F2 to write; kept in the file",
            ),
        ]

    def _picture(self, row: CaptureRow) -> QPixmap | None:
        if row.thumbnail is None:
            return None
        if row.path not in self._pictures:
            height, width, _ = row.thumbnail.shape
            image = QImage(row.thumbnail.data, width, height, 3 * width, QImage.Format.Format_RGB888)
            self._pictures[row.path] = QPixmap.fromImage(image.copy())
        return self._pictures[row.path]

    def _write_note(self, row: CaptureRow, text: str) -> bool:
        if text == row.note:
            return False
        try:
            records.NOTE.keep(row.path, Note(text))
        except WendascopeError as error:
            self._session.problem = str(error)
            self._session.changed()
            return False
        row.note = text
        return True

    def fetch(self, rows: list[CaptureRow]) -> None:
        """Read the files of new captures in the background."""
        for row in rows:
            self._reader.read(row.path)

    def _read(self, path: Path, thumbnail: Any, times: Any, note: str) -> None:
        for row in self._session.rows:
            if row.path == path:
                row.thumbnail, row.frame_ms, row.note = thumbnail, times, note
        self.rows.repaint_rows()

    def _double_clicked(self, index: QModelIndex) -> None:
        if self.rows.columns[index.column()].write is None:
            self.opened.emit(self.rows.rows[index.row()].path)

    def _menu(self, at: Any) -> None:
        index = self.indexAt(at)
        if not index.isValid():
            return
        row = self.rows.rows[index.row()]
        menu = QMenu(self)
        menu.addAction("Open", lambda: self.opened.emit(row.path))
        menu.addAction("Use as baseline", lambda: self.use_as_baseline(row))
        menu.addAction("Compare with the baseline", lambda: self.compared.emit(row.path)).setEnabled(
            row.path != self._session.baseline
        )
        menu.addAction("Write a note", lambda: self.edit(index.siblingAtColumn(len(self.rows.columns) - 1)))
        menu.addAction("Copy the path", lambda: QGuiApplication.clipboard().setText(str(row.path)))
        menu.exec(self.viewport().mapToGlobal(at))

    def use_as_baseline(self, row: CaptureRow) -> None:
        """Differences are to this capture from now on."""
        self._session.baseline = row.path
        self._session.changed()

    def keyPressEvent(self, event: Any) -> None:
        opens = event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter)
        if opens and self.state() != QAbstractItemView.State.EditingState:
            for row in self.all_chosen[:1]:
                self.opened.emit(row.path)
        else:
            super().keyPressEvent(event)
