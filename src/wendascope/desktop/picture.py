"""The picture panel: the target at the selected step through a lens, with zoom and probe."""

from __future__ import annotations

from typing import Any

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, QTimer, Signal
from PySide6.QtGui import QColor, QImage, QMouseEvent, QPainter, QPaintEvent, QPen, QWheelEvent
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QLabel, QSizePolicy, QToolButton, QVBoxLayout, QWidget

from wendascope.desktop.jobs import JobRunner
from wendascope.desktop.model import Document
from wendascope.desktop.theme import GRID, figures_font, theme
from wendascope.measure.lenses import lens_named, lenses

_DELAY_MS = 25
_LARGEST_ZOOM = 64.0


class PictureView(QWidget):
    """An image on neutral grey: the wheel zooms about the pointer, dragging moves, the pointer probes."""

    probed = Signal(object)
    """(x, y) with y from the bottom, or None."""
    zoomed = Signal(float)

    def __init__(self) -> None:
        super().__init__()
        self._image: QImage | None = None
        self._fit = True
        self._zoom = 1.0
        self._centre = QPointF(0, 0)
        self._pressed: QPointF | None = None
        self._pixel: tuple[int, int] | None = None
        self.note = ""
        self.setMouseTracking(True)
        self.setMinimumSize(240, 160)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Picture")

    def sizeHint(self) -> QSize:
        return QSize(480, 300)

    @property
    def image(self) -> QImage | None:
        return self._image

    def show_image(self, pixels: np.ndarray[Any, Any] | None) -> None:
        """Show an array (h, w, 3) uint8, top row first; the zoom stays when the size does."""
        if pixels is None:
            self._image = None
        else:
            height, width = pixels.shape[:2]
            image = QImage(np.ascontiguousarray(pixels).data, width, height, 3 * width, QImage.Format.Format_RGB888).copy()
            if self._image is None or self._image.size() != image.size():
                self._fit = True
            self._image = image
        self.update()

    # ---- where the image is ---------------------------------------------------------------------------

    @property
    def scale(self) -> float:
        """Screen pixels a picture pixel."""
        if not self._fit or self._image is None:
            return self._zoom
        margin = 2 * GRID
        return min((self.width() - margin) / self._image.width(), (self.height() - margin) / self._image.height())

    def _origin(self) -> QPointF:
        assert self._image is not None
        size = QPointF(self._image.width(), self._image.height()) * self.scale
        middle = QPointF(self.width(), self.height()) / 2
        if self._fit:
            return middle - size / 2
        return middle - self._centre * self.scale

    def fit(self) -> None:
        self._fit = True
        self._changed()

    def set_zoom(self, zoom: float, about: QPointF | None = None) -> None:
        """Zoom so that what is under `about` (widget coordinates) stays there."""
        if self._image is None:
            return
        about = about or QPointF(self.width(), self.height()) / 2
        at = (about - self._origin()) / self.scale
        self._zoom = min(max(zoom, 0.05), _LARGEST_ZOOM)
        self._fit = False
        self._centre = at + (QPointF(self.width(), self.height()) / 2 - about) / self._zoom
        self._changed()

    def zoom_by(self, factor: float) -> None:
        self.set_zoom(self.scale * factor)

    def _changed(self) -> None:
        self.zoomed.emit(self.scale)
        self.update()

    # ---- painting and hands ------------------------------------------------------------------------------

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), QColor(theme().surround))
        if self._image is not None:
            scale = self.scale
            painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform, scale < 1)
            size = QPointF(self._image.width(), self._image.height()) * scale
            origin = self._origin()
            painter.drawImage(QRectF(origin.x(), origin.y(), size.x(), size.y()), self._image)
            if self._pixel is not None and scale >= 6:
                x, y = self._pixel
                painter.setPen(QPen(QColor(theme().accent), 2))
                painter.drawRect(QRectF(origin.x() + x * scale, origin.y() + y * scale, scale, scale))
        if self.note:
            box = QRectF(0, self.height() - 28, self.width(), 28)
            painter.fillRect(box, QColor(theme().raised))
            painter.setPen(QColor(theme().ink))
            painter.drawText(box.adjusted(8, 0, -8, 0), Qt.AlignmentFlag.AlignVCenter, self.note)

    def wheelEvent(self, event: QWheelEvent) -> None:
        self.set_zoom(self.scale * 1.25 ** (event.angleDelta().y() / 120), event.position())
        event.accept()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self._pressed = event.position()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self._pressed = None

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        self.fit()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._image is None:
            return
        if self._pressed is not None and event.buttons():
            if self._fit:
                self.set_zoom(self.scale)
            self._centre -= (event.position() - self._pressed) / self._zoom
            self._pressed = event.position()
            self.update()
        at = (event.position() - self._origin()) / self.scale
        x, y = int(at.x()), int(at.y())
        inside = at.x() >= 0 and at.y() >= 0 and x < self._image.width() and y < self._image.height()
        self._pixel = (x, y) if inside else None
        self.probed.emit((x, self._image.height() - 1 - y) if inside else None)
        if self.scale >= 6:
            self.update()

    def leaveEvent(self, event: Any) -> None:
        self._pixel = None
        self.probed.emit(None)


class PicturePanel(QWidget):
    """Lens, zoom, picture and probe. Follows the selection of a document."""

    def __init__(self) -> None:
        super().__init__()
        self._document: Document | None = None
        self._jobs: JobRunner | None = None
        self._found: dict[str, Any] | None = None
        self._wanted: tuple[int | None, str] | None = None
        self.lens = QComboBox()
        for item in lenses():
            self.lens.addItem(item.title, item.name)
        self.lens.setToolTip("How to see the picture")
        self.lens.currentIndexChanged.connect(self.request)
        self.title = QLabel()
        self.zoom = QLabel()
        self.zoom.setFont(figures_font())
        self.zoom.setMinimumWidth(5 * GRID)
        self.zoom.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        self.view = PictureView()
        self.probe = QLabel()
        self.probe.setFont(figures_font())
        self.probe.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        buttons = QHBoxLayout()
        buttons.setSpacing(GRID)
        buttons.setContentsMargins(GRID, GRID // 2, GRID, GRID // 2)
        lens_label = QLabel("Lens")
        lens_label.setBuddy(self.lens)
        buttons.addWidget(lens_label)
        buttons.addWidget(self.lens)
        buttons.addWidget(self.title, 1)
        for text, tip, action in (("-", "Smaller", lambda: self.view.zoom_by(0.8)), ("+", "Larger", lambda: self.view.zoom_by(1.25))):
            button = QToolButton()
            button.setText(text)
            button.setToolTip(tip)
            button.clicked.connect(action)
            buttons.addWidget(button)
        for text, tip, action in (("Fit", "Show the whole picture", self.view.fit), ("1:1", "One screen pixel for each picture pixel", lambda: self.view.set_zoom(1.0))):
            button = QToolButton()
            button.setText(text)
            button.setToolTip(tip)
            button.clicked.connect(action)
            buttons.addWidget(button)
        buttons.addWidget(self.zoom)
        foot = QHBoxLayout()
        foot.setContentsMargins(GRID, 2, GRID, 4)
        foot.addWidget(self.probe, 1)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addLayout(buttons)
        layout.addWidget(self.view, 1)
        layout.addLayout(foot)
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.setInterval(_DELAY_MS)
        self._timer.timeout.connect(self._ask)
        self.view.probed.connect(self._probe)
        self.view.zoomed.connect(lambda scale: self.zoom.setText(f"{100 * scale:.0f} %"))
        self._probe(None)

    def show_document(self, document: Document | None, jobs: JobRunner | None) -> None:
        """Follow another document. The captured picture is shown at once."""
        self._jobs = jobs
        if document is self._document:
            return
        self._document = document
        self._wanted = None
        if document is None:
            self._found = None
            self.view.show_image(None)
            self.title.setText("")
            return
        document.selection.listen(self.request)
        reference = document.frame.reference
        if document.selection.step is None and reference is not None:
            self._show({"pixels": reference.pixels, "name": "captured picture"}, None, "colour")
        else:
            self.request()

    def request(self) -> None:
        """Ask for the picture of the selected step; quick changes are asked for once."""
        if self._document is not None:
            self._timer.start()

    def _ask(self) -> None:
        document, jobs = self._document, self._jobs
        if document is None or jobs is None:
            return
        step, lens = document.selection.step, self.lens.currentData()
        if (step, lens) == self._wanted:
            return
        self._wanted = (step, lens)
        self.view.note = "waiting until the frame is measured" if jobs.running("measure") else "replaying"
        QTimer.singleShot(250, self.view.update)  # short replays need no note
        jobs.submit(
            "picture",
            lambda replay, progress, cancelled: replay.run("measure.pictures", "picture_at", progress, cancelled, step=step, lens=lens),
            lambda found: self._arrived(document, step, lens, found),
            lambda error: self._refused(document, error),
            replaces=True,
        )

    def _arrived(self, document: Document, step: int | None, lens: str, found: dict[str, Any]) -> None:
        if document is self._document and (step, lens) == self._wanted:
            self._show(found, step, lens)

    def _refused(self, document: Document, error: str) -> None:
        if document is self._document and error != "cancelled":
            self._wanted = None
            self.view.note = error
            self.view.update()

    def _show(self, found: dict[str, Any], step: int | None, lens: str) -> None:
        self._found = found
        self.view.note = ""
        self.view.show_image(lens_named(lens).paint(found))
        self.zoom.setText(f"{100 * self.view.scale:.0f} %")
        assert self._document is not None
        passes = self._document.frame.passes
        where = found["name"] if step is None else f"{passes.names[int(passes.of_step[step])]}, after step {step:,}"
        self.title.setText(where)

    def _probe(self, at: tuple[int, int] | None) -> None:
        if at is None or self._found is None:
            self.probe.setText("Move over the picture to read a pixel")
            return
        x, y = at
        text = lens_named(self.lens.currentData()).probe(self._found, x, y)
        self.probe.setText(f"x {x}  y {y}   {text}")
