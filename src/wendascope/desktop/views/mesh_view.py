"""The mesh of the selected step: turned with the mouse, shaded and as wires, with its attributes as a table."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np
from PySide6.QtCore import QModelIndex, QPersistentModelIndex, QPointF, Qt, QTimer, Signal
from PySide6.QtGui import (
    QColor,
    QImage,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QResizeEvent,
    QWheelEvent,
)
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QFileDialog,
    QHBoxLayout,
    QPushButton,
    QSizePolicy,
    QSplitter,
    QVBoxLayout,
    QWidget,
)

from wendascope.colours import INK, RELIEF
from wendascope.desktop.models.commands import JobName
from wendascope.desktop.models.document import Document, Workspace
from wendascope.desktop.widgets.plain import Label
from wendascope.desktop.widgets.rows_table import Column, RowsModel, RowsTable
from wendascope.desktop.widgets.theme import GRID, theme
from wendascope.errors import WendascopeError
from wendascope.measure.mesh import MeshTable, mesh_picture, mesh_table
from wendascope.report.object_files import save_mesh
from wendascope.texts import three_digits

Index = QModelIndex | QPersistentModelIndex
_START = (30.0, 20.0, 1.0)
_TURN = 15.0


class MeshPicture(QWidget):
    """Dragging turns, the wheel zooms, arrow keys turn too; a double click fits."""

    changed = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.yaw, self.pitch, self.zoom = _START
        self.note = ""
        self._image: QImage | None = None
        self._pressed: QPointF | None = None
        self.setMinimumSize(160, 120)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Mesh")

    def show_pixels(self, pixels: np.ndarray[Any, Any] | None) -> None:
        """An image (h, w, 4), bottom row first."""
        if pixels is None:
            self._image = None
        else:
            turned = np.ascontiguousarray(pixels[::-1])
            self._image = QImage(
                turned.data, turned.shape[1], turned.shape[0], 4 * turned.shape[1], QImage.Format.Format_RGBX8888
            ).copy()
        self.update()

    @property
    def image(self) -> QImage | None:
        return self._image

    def fit(self, flat: bool = False) -> None:
        self.yaw, self.pitch, self.zoom = (0.0, 0.0, 1.0) if flat else _START
        self.changed.emit()

    def turn(self, yaw: float, pitch: float) -> None:
        self.yaw = (self.yaw + yaw) % 360
        self.pitch = min(max(self.pitch + pitch, -90.0), 90.0)
        self.changed.emit()

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), QColor(theme().surround))
        if self._image is not None:
            painter.drawImage(self.rect(), self._image)
        if self.note:
            painter.setPen(QColor("#FFFFFF"))
            painter.drawText(
                self.rect().adjusted(GRID, 0, -GRID, 0),
                Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap,
                self.note,
            )

    def resizeEvent(self, event: QResizeEvent) -> None:
        self.changed.emit()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self._pressed = event.position()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self._pressed = None

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._pressed is not None:
            by = event.position() - self._pressed
            self._pressed = event.position()
            self.turn(by.x() * 0.5, by.y() * 0.5)

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        self.fit()

    def wheelEvent(self, event: QWheelEvent) -> None:
        self.zoom = min(max(self.zoom * 1.25 ** (event.angleDelta().y() / 120), 0.2), 200.0)
        self.changed.emit()
        event.accept()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        turns = {
            Qt.Key.Key_Left: (-_TURN, 0),
            Qt.Key.Key_Right: (_TURN, 0),
            Qt.Key.Key_Up: (0, -_TURN),
            Qt.Key.Key_Down: (0, _TURN),
        }
        by = turns.get(Qt.Key(event.key()))
        if by is None:
            super().keyPressEvent(event)
        else:
            self.turn(*by)


Values = Sequence[float]
"""The attributes of one vertex."""


def _attribute(number: int, title: str) -> Column[Values]:
    return Column(
        title,
        9 * GRID,
        lambda values: f"{values[number]:.5g}",
        lambda values: values[number],
        copied=lambda values: f"{values[number]:.9g}",
    )


class MeshPanel(QWidget):
    """Follows the selection while it is shown."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self._workspace = workspace
        self._document: Document | None = None
        self._step: int | None = None
        self.space = QComboBox()
        self.space.setAccessibleName("Space")
        self.space.addItem("In its own space", "object")
        self.space.addItem("As projected", "screen")
        self.shaded, self.wire = QCheckBox("Shaded"), QCheckBox("Wires")
        self.shaded.setChecked(True)
        self.wire.setChecked(True)
        fit = QPushButton("Fit")
        fit.setToolTip("Show the whole mesh again; drag to turn it, roll to zoom")
        self.facts = Label()
        self.facts.setWordWrap(True)
        self.facts.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.picture = MeshPicture()
        self.attributes: RowsTable[Values] = RowsTable(RowsModel([]), "Attributes", sortable=False, several=True)
        self.attributes.verticalHeader().show()
        row = QHBoxLayout()
        save = QPushButton("Save ...")
        save.setToolTip("The mesh of the step as binary glTF, as its buffers hold it")
        save.clicked.connect(self._save)
        for widget in (self.space, self.shaded, self.wire, fit, save):
            row.addWidget(widget)
        row.addStretch(1)
        split = QSplitter(Qt.Orientation.Horizontal)
        split.addWidget(self.picture)
        split.addWidget(self.attributes)
        split.setSizes([420, 280])
        split.setChildrenCollapsible(False)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, GRID // 2, 0, 0)
        layout.setSpacing(GRID // 2)
        layout.addLayout(row)
        layout.addWidget(self.facts)
        layout.addWidget(split, 1)
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.setInterval(15)
        self._timer.timeout.connect(self._ask_picture)
        self.picture.changed.connect(self._timer.start)
        self.shaded.toggled.connect(self._timer.start)
        self.wire.toggled.connect(self._timer.start)
        self.space.currentIndexChanged.connect(lambda: self.picture.fit(self.space.currentData() == "screen"))
        fit.clicked.connect(lambda: self.picture.fit(self.space.currentData() == "screen"))

    def show_document(self, document: Document | None) -> None:
        if document is not self._document:
            self._document = document
            if document is not None:
                document.selection.listen(self._follow)
            self._step = None
        self._follow()

    def _save(self) -> None:
        document, step = self._document, self._step
        if document is None or step is None:
            return
        start = document.path.with_name(f"step-{step}.glb")
        name, _ = QFileDialog.getSaveFileName(self, "Save the mesh", str(start), "glTF (*.glb)")
        if name:
            try:
                save_mesh(document.frame, step, Path(name))
            except WendascopeError as error:
                self.facts.setText(str(error))
            else:
                self.facts.setText(f"Saved as {name}")

    def showEvent(self, event: Any) -> None:
        self._follow()
        super().showEvent(event)

    def _follow(self) -> None:
        document = self._document
        step = document.selection.step if document else None
        if not self.isVisible() or (step == self._step and step is not None):
            return
        self._step = step
        self.attributes.rows.show_columns([], [])
        self.picture.show_pixels(None)
        if document is None or step is None or document.frame.steps.kind_name(step) != "draw":
            self.facts.setText("")
            self.picture.note = "Choose a draw to see its mesh."
            self._step = None
            self.picture.update()
            return
        self.picture.note = "reading the mesh"
        self._workspace.jobs.run_job(
            JobName.MESH_TABLE,
            lambda replay, task: replay.run(mesh_table.asked(step), task),
            lambda found: self._arrived(step, found),
            lambda error: self._refused(step, error),
        )
        self._timer.start()

    def _arrived(self, step: int, table: MeshTable) -> None:
        if step != self._step or self._document is None:
            return
        self.attributes.rows.show_columns([_attribute(*c) for c in enumerate(table.attributes)], table.rows)
        self.attributes.fit_columns()
        parts = [f"{table.triangles:,} triangles"]
        drawn = self._document.drawn.steps[step] if self._document.drawn else None
        if drawn is not None and drawn.box is not None:
            x0, y0, x1, y1 = drawn.box
            seen = f", {drawn.survivors:,} seen" if drawn.survivors >= 0 else ""
            parts.append(f"{x1 - x0} x {y1 - y0} pixels on its target")
            parts.append(f"{drawn.covered:,} pixels covered{seen}")
            if drawn.drawn > 0:
                parts.append(f"{three_digits(drawn.covered / drawn.drawn)} pixels per triangle")
        notes = "".join(f" {note[:1].upper()}{note[1:]}." for note in table.notes)
        self.facts.setText(", ".join(parts) + "." + notes)

    def _refused(self, step: int, error: Exception) -> None:
        if step == self._step:
            self.picture.note = str(error)
            self.picture.show_pixels(None)

    def _ask_picture(self) -> None:
        step, picture = self._step, self.picture
        if step is None or not self.isVisible() or picture.width() < 8:
            return
        colours = {"ground": theme().surround, "mesh": RELIEF[1], "wire": INK}
        asked = mesh_picture.asked(
            step,
            self.space.currentData(),
            picture.yaw,
            picture.pitch,
            picture.zoom,
            picture.width(),
            picture.height(),
            colours,
            self.shaded.isChecked(),
            self.wire.isChecked(),
        )
        self._workspace.jobs.run_job(
            JobName.MESH_PICTURE,
            lambda replay, task: replay.run(asked, task),
            lambda pixels: self._drawn(step, pixels),
            lambda error: self._refused(step, error),
        )

    def _drawn(self, step: int, pixels: np.ndarray[Any, Any]) -> None:
        if step == self._step:
            self.picture.note = ""
            self.picture.show_pixels(pixels)
