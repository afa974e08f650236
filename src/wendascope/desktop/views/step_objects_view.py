"""What goes into the selected step and what comes out, as small pictures with size, format and who wrote them last."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
from PySide6.QtCore import QSize, Qt, QTimer, Signal
from PySide6.QtGui import QColor, QIcon, QImage, QKeyEvent, QPainter, QPixmap, QShowEvent
from PySide6.QtWidgets import QListWidget, QListWidgetItem, QVBoxLayout, QWidget

from wendascope.desktop.models.commands import JobName
from wendascope.desktop.models.document import Document, Workspace
from wendascope.desktop.widgets.plain import Label, plain_tip
from wendascope.desktop.widgets.theme import GRID, figures_font, theme
from wendascope.errors import CancelledError
from wendascope.frame.step_objects import StepObject, objects_of
from wendascope.measure.step_pictures import step_pictures
from wendascope.texts import memory, visible

_ICON = QSize(64, 48)
_MOST_PICTURES = 12
_REST_MS = 150
"""Steps that are passed over are not read."""
_HINT = "Click to see it beside the picture; double-click to go to the step that wrote it last, or to its contents."


class StepObjectsView(QWidget):
    """Follows the selection; works only while it is seen."""

    looked_at = Signal(object)
    """A StepObject with an image that is to be seen beside the picture."""
    followed = Signal(object)
    """A StepObject whose origin is to be gone to."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self._workspace = workspace
        self._document: Document | None = None
        self._shown: tuple[object, ...] = ()
        self.note = Label()
        self.note.setWordWrap(True)
        self.list = QListWidget()
        self.list.setAccessibleName("What the step reads and writes")
        self.list.setFlow(QListWidget.Flow.LeftToRight)
        self.list.setWrapping(True)
        self.list.setResizeMode(QListWidget.ResizeMode.Adjust)
        self.list.setWordWrap(False)
        self.list.setIconSize(_ICON)
        self.list.setFont(figures_font(0.95))
        self.list.setSpacing(2)
        self.list.itemClicked.connect(self._look)
        self.list.itemDoubleClicked.connect(self._follow)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(GRID, GRID // 2, GRID, GRID)
        layout.setSpacing(GRID // 2)
        layout.addWidget(self.note)
        layout.addWidget(self.list, 1)
        self._rest = QTimer(self)
        self._rest.setSingleShot(True)
        self._rest.setInterval(_REST_MS)
        self._rest.timeout.connect(self._read)

    def show_document(self, document: Document | None) -> None:
        """Follow a document; None for none."""
        if document is not self._document:
            self._document = document
            if document is not None:
                document.selection.listen(self._changed)
        self._changed()

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        self._changed()

    def _changed(self) -> None:
        document = self._document
        shown = (document, document.selection.step if document else None)
        if not self.isVisible() or shown == self._shown:
            return
        self._shown = shown
        self.list.clear()
        if document is None or document.selection.step is None:
            self.note.setText("Choose a step to see what it reads and writes." if document else "")
            return
        reads, writes = objects_of(document.frame, document.selection.step)
        inputs = [thing for thing in reads if thing.item not in [other.item for other in writes]]
        for thing in [*inputs, *writes]:
            self.list.addItem(self._row(document, thing))
        self.note.setText(_HINT if self.list.count() else "This step reads and writes no object that is known here.")
        self._rest.start()

    def _row(self, document: Document, thing: StepObject) -> QListWidgetItem:
        item = thing.item
        what = "writes" if thing.written else "reads"
        if thing.parts:
            what += f" {', '.join(thing.parts)}"
        facts = "  ".join(filter(None, [item.dimensions, item.format if thing.is_image else memory(item.size)]))
        text = f"{what}\n{visible(item.title)}\n{facts}\n{_origin(document, thing)}"
        row = QListWidgetItem(QIcon(_empty()), text)
        row.setData(Qt.ItemDataRole.UserRole, thing)
        row.setData(Qt.ItemDataRole.AccessibleTextRole, text.replace("\n", ", "))
        row.setToolTip(plain_tip(f"{text}\n{_HINT}"))
        row.setSizeHint(QSize(250, 72))
        return row

    # ---- pictures ---------------------------------------------------------------------------------------

    def _read(self) -> None:
        document, shown = self._document, self._shown
        if document is None or document.selection.step is None:
            return
        rows = [row for k in range(self.list.count()) if (row := self.list.item(k)) and _thing(row).is_image]
        rows = rows[:_MOST_PICTURES]
        images = [(_thing(row).item.object_class, _thing(row).item.name) for row in rows]
        if not images:
            return
        step = document.selection.step

        def arrived(pictures: list[npt.NDArray[np.uint8] | None]) -> None:
            if shown == self._shown:
                for row, picture in zip(rows, pictures, strict=True):
                    row.setIcon(QIcon(_empty() if picture is None else _thumbnail(picture)))

        def failed(error: Exception) -> None:
            if shown == self._shown and not isinstance(error, CancelledError):
                self.note.setText(f"The images could not be read: {error}.")

        self._workspace.jobs.run_job(
            JobName.STEP_OBJECTS,
            lambda replay, task: replay.run(step_pictures.asked(step=step, images=images), task),
            arrived,
            failed,
        )

    # ---- hands ------------------------------------------------------------------------------------------

    def _look(self, row: QListWidgetItem) -> None:
        if _thing(row).is_image:
            self.looked_at.emit(_thing(row))

    def _follow(self, row: QListWidgetItem) -> None:
        self.followed.emit(_thing(row))

    def keyPressEvent(self, event: QKeyEvent) -> None:
        row = self.list.currentItem()
        if row is not None and event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self._follow(row)
        elif row is not None and event.key() == Qt.Key.Key_Space:
            self._look(row)
        else:
            super().keyPressEvent(event)


def _thing(row: QListWidgetItem) -> StepObject:
    thing = row.data(Qt.ItemDataRole.UserRole)
    assert isinstance(thing, StepObject)
    return thing


def _origin(document: Document, thing: StepObject) -> str:
    if thing.writer >= 0:
        passes = document.frame.passes
        return f"before: step {thing.writer:,} ({passes.short_names[int(passes.of_step[thing.writer])]})"
    item = thing.item
    if item.written_by >= 0 and not len(item.writes):
        return "written by a call of the frame"
    return "as before the frame"


def _empty() -> QPixmap:
    pixmap = QPixmap(_ICON)
    pixmap.fill(QColor(theme().bar))
    return pixmap


def _thumbnail(pixels: npt.NDArray[np.uint8]) -> QPixmap:
    height, width, _ = pixels.shape
    image = QImage(pixels.tobytes(), width, height, 3 * width, QImage.Format.Format_RGB888)
    small = image.scaled(_ICON, Qt.AspectRatioMode.KeepAspectRatio, Qt.TransformationMode.SmoothTransformation)
    pixmap = QPixmap(_ICON)
    pixmap.fill(QColor(theme().surround))
    painter = QPainter(pixmap)
    painter.drawImage((_ICON.width() - small.width()) // 2, (_ICON.height() - small.height()) // 2, small)
    painter.end()
    return pixmap
