"""An image with zoom and probe, which another one beside it can follow."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QColor, QImage, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QResizeEvent, QWheelEvent
from PySide6.QtWidgets import QSizePolicy, QWidget

from wendascope.desktop.widgets.theme import GRID, figures_font, theme

_LARGEST_ZOOM = 64.0
_FIGURES = 18.0
"""Screen pixels a picture pixel from which its figure is written into it."""
_ARROWS = {
    Qt.Key.Key_Left: (-1, 0), Qt.Key.Key_Right: (1, 0), Qt.Key.Key_Up: (0, -1), Qt.Key.Key_Down: (0, 1),
}  # fmt: skip
_CLICK = 4
"""Screen pixels that a press may move and still be a click."""


class PictureView(QWidget):
    """An image on neutral grey: the wheel zooms about the pointer, dragging moves, the pointer probes."""

    probed = Signal(object)
    """(x, y) with y from the bottom, or None."""
    zoomed = Signal(float)
    moved = Signal()
    """Zoomed or dragged by hand, so that a picture beside it can follow."""
    clicked = Signal(int, int)
    """A pixel, y from the bottom: pressed and let go in one place."""

    def __init__(self) -> None:
        super().__init__()
        self._image: QImage | None = None
        self._fit = True
        self._zoom = 1.0
        self._centre = QPointF(0, 0)
        self._pressed: QPointF | None = None
        self._dragged = False
        self._overlay: QImage | None = None
        self._outline: QImage | None = None
        self.pin: tuple[int, int] | None = None
        """The held pixel, y from the bottom."""
        self.figure: Callable[[int, int], str] | None = None
        """Text of a pixel (y from the bottom), written where pixels are shown large."""
        self._pixel: tuple[int, int] | None = None
        self._echo: tuple[int, int] | None = None
        self.note = ""
        self.setMouseTracking(True)
        self.setMinimumSize(160, 96)
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
            image = QImage(
                np.ascontiguousarray(pixels).data, width, height, 3 * width, QImage.Format.Format_RGB888
            ).copy()
            self.show_qimage(image)
        self.update()

    def show_qimage(self, image: QImage) -> None:
        """The same of an image that is there already."""
        if self._image is None or self._image.size() != image.size():
            self._fit = True
        self._image = image
        self.update()

    def highlight(self, mask: np.ndarray[Any, Any] | None) -> None:
        """Dim everything outside a mask (h, w), bottom row first; None for nothing."""
        if mask is None:
            self._overlay = None
        else:  # an alpha of its own is drawn as black
            dim = np.where(mask[::-1], np.uint8(0), np.uint8(170))
            self._overlay = QImage(
                dim.data, dim.shape[1], dim.shape[0], dim.shape[1], QImage.Format.Format_Alpha8
            ).copy()
        self.update()

    def outline(self, mask: np.ndarray[Any, Any] | None) -> None:
        """Draw a line round a mask (h, w), bottom row first."""
        if mask is None:
            self._outline = None
        else:
            shape = np.pad(mask[::-1], 1)
            inner = shape[1:-1, 1:-1] & shape[:-2, 1:-1] & shape[2:, 1:-1] & shape[1:-1, :-2] & shape[1:-1, 2:]
            accent = QColor(theme().accent)
            line = np.zeros((*mask.shape, 4), np.uint8)
            line[shape[1:-1, 1:-1] & ~inner] = (accent.red(), accent.green(), accent.blue(), 255)
            self._outline = QImage(
                line.data, line.shape[1], line.shape[0], 4 * line.shape[1], QImage.Format.Format_RGBA8888
            ).copy()
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

    def follow(self, other: PictureView) -> None:
        """Show the same part of this picture as another view shows of its own, whatever sizes the two have."""
        if self._image is None or other._image is None:
            return
        self._fit = other._fit
        self._zoom = other._zoom * other._image.width() / self._image.width()
        across = self._image.width() / other._image.width()
        self._centre = QPointF(other._centre.x() * across, other._centre.y() * across)
        self.zoomed.emit(self.scale)
        self.update()

    def echo(self, at: tuple[int, int] | None) -> None:
        """Mark the pixel (y from the bottom) that is pointed at in the picture beside this one."""
        self._echo = at
        self.update()

    def _changed(self) -> None:
        self.zoomed.emit(self.scale)
        self.moved.emit()
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
            where = QRectF(origin.x(), origin.y(), size.x(), size.y())
            painter.drawImage(where, self._image)
            for layer in (self._overlay, self._outline):
                if layer is not None and layer.size() == self._image.size():
                    painter.drawImage(where, layer)
            if scale >= _FIGURES:
                self._paint_figures(painter, origin, scale)
            if self.pin is not None:
                self._paint_pin(painter, origin, scale)
            if self._echo is not None:
                self._paint_echo(painter, origin, scale)
            if self._pixel is not None and (scale >= 6 or self.hasFocus()):
                x, y = self._pixel
                painter.setPen(QPen(QColor(theme().accent), 2))
                side = max(scale, 6.0)
                painter.drawRect(QRectF(origin.x() + x * scale, origin.y() + y * scale, side, side))
        if self.hasFocus():
            painter.setPen(QPen(QColor(theme().accent), 2))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(QRectF(self.rect()).adjusted(1, 1, -1, -1))
        if self.note:
            box = QRectF(0, self.height() - 28, self.width(), 28)
            painter.fillRect(box, QColor(theme().raised))
            painter.setPen(QColor(theme().ink))
            painter.drawText(box.adjusted(8, 0, -8, 0), Qt.AlignmentFlag.AlignVCenter, self.note)

    def _paint_figures(self, painter: QPainter, origin: QPointF, scale: float) -> None:
        """Each pixel's figure, in ink that can be read on its colour."""
        if self.figure is None or self._image is None:
            return
        painter.setFont(figures_font(min(scale / 34, 1.0)))
        first_x, first_y = max(int(-origin.x() / scale), 0), max(int(-origin.y() / scale), 0)
        last_x = min(int((self.width() - origin.x()) / scale) + 1, self._image.width())
        last_y = min(int((self.height() - origin.y()) / scale) + 1, self._image.height())
        for y in range(first_y, last_y):
            for x in range(first_x, last_x):
                dark = self._image.pixelColor(x, y).lightness() < 128
                painter.setPen(QColor("#FFFFFF" if dark else "#101418"))
                box = QRectF(origin.x() + x * scale, origin.y() + y * scale, scale, scale)
                painter.drawText(box, Qt.AlignmentFlag.AlignCenter, self.figure(x, self._image.height() - 1 - y))

    def _paint_pin(self, painter: QPainter, origin: QPointF, scale: float) -> None:
        assert self.pin is not None and self._image is not None
        x, y = self.pin[0], self._image.height() - 1 - self.pin[1]
        centre = QPointF(origin.x() + (x + 0.5) * scale, origin.y() + (y + 0.5) * scale)
        reach = max(scale / 2, 3.0)
        for colour, width in (("#FFFFFF", 4), (theme().accent, 2)):
            painter.setPen(QPen(QColor(colour), width))
            for dx, dy in ((1, 0), (-1, 0), (0, 1), (0, -1)):
                painter.drawLine(centre + QPointF(dx, dy) * reach, centre + QPointF(dx, dy) * (reach + 9))

    def _paint_echo(self, painter: QPainter, origin: QPointF, scale: float) -> None:
        assert self._echo is not None and self._image is not None
        x, y = self._echo[0], self._image.height() - 1 - self._echo[1]
        centre = QPointF(origin.x() + (x + 0.5) * scale, origin.y() + (y + 0.5) * scale)
        for colour, width in (("#101418", 3), ("#FFFFFF", 1)):
            painter.setPen(QPen(QColor(colour), width))
            painter.drawEllipse(centre, 5.0, 5.0)

    def resizeEvent(self, event: QResizeEvent) -> None:
        if self._image is not None:
            self.zoomed.emit(self.scale)  # a fitted picture grows with its room

    def wheelEvent(self, event: QWheelEvent) -> None:
        self.set_zoom(self.scale * 1.25 ** (event.angleDelta().y() / 120), event.position())
        event.accept()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self._pressed = event.position()
        self._dragged = False

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self._pressed = None
        if (
            not self._dragged
            and self._pixel is not None
            and self._image is not None
            and event.button() == Qt.MouseButton.LeftButton
        ):
            self.clicked.emit(self._pixel[0], self._image.height() - 1 - self._pixel[1])

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        self.fit()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._image is None:
            return
        if self._pressed is not None and event.buttons():
            if not self._dragged and (event.position() - self._pressed).manhattanLength() < _CLICK:
                return
            self._dragged = True
            if self._fit:
                self.set_zoom(self.scale)
            self._centre -= (event.position() - self._pressed) / self._zoom
            self._pressed = event.position()
            self._changed()
        at = (event.position() - self._origin()) / self.scale
        x, y = int(at.x()), int(at.y())
        inside = at.x() >= 0 and at.y() >= 0 and x < self._image.width() and y < self._image.height()
        self._pixel = (x, y) if inside else None
        self.probed.emit((x, self._image.height() - 1 - y) if inside else None)
        if self.scale >= 6:
            self.update()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Arrows move the probe by a pixel, with Shift by sixteen; Return pins it."""
        by = _ARROWS.get(Qt.Key(event.key()))
        image = self._image
        if image is not None and by is not None:
            steps = 16 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1
            x, y = self._pixel or (image.width() // 2, image.height() // 2)
            x = min(max(x + steps * by[0], 0), image.width() - 1)
            y = min(max(y + steps * by[1], 0), image.height() - 1)
            self._pixel = x, y
            self.probed.emit((x, image.height() - 1 - y))
            self.update()
        elif image is not None and self._pixel is not None and event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.clicked.emit(self._pixel[0], image.height() - 1 - self._pixel[1])
        else:
            super().keyPressEvent(event)

    def leaveEvent(self, event: Any) -> None:
        self._pixel = None
        self.probed.emit(None)
