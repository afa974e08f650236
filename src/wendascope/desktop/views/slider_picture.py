"""Two pictures in one frame: before at the left of a line that can be dragged, after at its right; or their
difference.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QColor, QImage, QKeyEvent, QLinearGradient, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QSizePolicy, QWidget

from wendascope.colours import RELIEF
from wendascope.desktop.widgets.theme import GRID, figures_font, theme

Pixels = npt.NDArray[np.uint8]


def difference_image(before: Pixels, after: Pixels) -> Pixels:
    """Largest channel difference of each pixel through the relief ramp, shape (height, width, 3); equal pixels are
    grey.
    """
    largest = np.abs(before.astype(np.int16) - after.astype(np.int16)).max(axis=2)
    ramp = np.array([[int(c[i : i + 2], 16) for i in (1, 3, 5)] for c in RELIEF], np.float64)
    # small differences matter: the ramp runs over their logarithm
    place = np.log1p(largest) / np.log(256) * (len(ramp) - 1)
    low = np.minimum(place.astype(int), len(ramp) - 2)
    part = (place - low)[..., None]
    image = ramp[low] * (1 - part) + ramp[low + 1] * part
    image[largest == 0] = 0x76
    return np.asarray(np.rint(image).astype(np.uint8))


def _image(pixels: Pixels) -> QImage:
    height, width, _ = pixels.shape
    return QImage(np.ascontiguousarray(pixels).data, width, height, 3 * width, QImage.Format.Format_RGB888).copy()


class SliderPicture(QWidget):
    """Drag anywhere, or use the arrow keys."""

    def __init__(self) -> None:
        super().__init__()
        self._pixels: tuple[Pixels | None, Pixels | None] = (None, None)
        self._before: QImage | None = None
        self._after: QImage | None = None
        self._difference: QImage | None = None  # made when it is first looked at
        self.position = 0.5
        """The line, from 0 at the left edge of the picture to 1 at its right."""
        self.lens = False
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumSize(30 * GRID, 20 * GRID)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setCursor(Qt.CursorShape.SplitHCursor)
        self.setAccessibleName("Pictures before and after")

    def sizeHint(self) -> QSize:
        return QSize(60 * GRID, 40 * GRID)

    def show_pictures(self, before: Pixels | None, after: Pixels | None) -> None:
        """Each of shape (height, width, 3), top row first."""
        self._before = None if before is None else _image(before)
        self._after = None if after is None else _image(after)
        self._pixels, self._difference = (before, after), None
        self.update()

    @property
    def can_differ(self) -> bool:
        before, after = self._pixels
        return before is not None and after is not None and before.shape == after.shape

    def _difference_image(self) -> QImage | None:
        before, after = self._pixels
        if self._difference is None and before is not None and after is not None and before.shape == after.shape:
            self._difference = _image(difference_image(before, after))
        return self._difference

    def show_lens(self, on: bool) -> None:
        """Show the difference instead of the two pictures."""
        self.lens = on
        self.setCursor(Qt.CursorShape.ArrowCursor if on else Qt.CursorShape.SplitHCursor)
        self.update()

    def _box(self) -> QRectF:
        image = self._after or self._before
        if image is None:
            return QRectF()
        scale = min(self.width() / image.width(), self.height() / image.height())
        width, height = image.width() * scale, image.height() * scale
        return QRectF((self.width() - width) / 2, (self.height() - height) / 2, width, height)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter, t = QPainter(self), theme()
        painter.fillRect(self.rect(), QColor(t.surround))
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        box = self._box()
        difference = self._difference_image() if self.lens else None
        if difference is not None:
            painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform, False)
            painter.drawImage(box, difference)
            self._legend(painter, box)
            return
        x = box.left() + self.position * box.width()
        if self._after is not None:
            painter.drawImage(box, self._after)
        if self._before is not None:
            painter.setClipRect(QRectF(box.left(), box.top(), x - box.left(), box.height()))
            painter.drawImage(box, self._before)
            painter.setClipping(False)
        if box.isEmpty():
            return
        for width, colour in ((4, "#FFFFFF"), (2, "#22303C")):
            painter.setPen(QPen(QColor(colour), width))
            painter.drawLine(QPointF(x, box.top()), QPointF(x, box.bottom()))
        painter.setFont(figures_font())
        for text, place, align in (
            ("before", x - 10 * GRID, Qt.AlignmentFlag.AlignRight),
            ("after", x + GRID, Qt.AlignmentFlag.AlignLeft),
        ):
            label = QRectF(place, box.top() + GRID, 9 * GRID, 2.5 * GRID)
            size = painter.fontMetrics().horizontalAdvance(text) + GRID
            back = QRectF(
                label.right() - size if align == Qt.AlignmentFlag.AlignRight else label.left(),
                label.top(),
                size,
                label.height(),
            )
            painter.fillRect(back, QColor("#FFFFFF"))
            painter.setPen(QColor("#22303C"))
            painter.drawText(back, Qt.AlignmentFlag.AlignCenter, text)

    def _legend(self, painter: QPainter, box: QRectF) -> None:
        """The ramp with its figures, below the picture where there is room, else on its lower edge."""
        width = min(box.width() - 2 * GRID, 40 * GRID)
        top = min(box.bottom() + 2 * GRID, self.height() - 7 * GRID)
        bar = QRectF(box.center().x() - width / 2, top, width, 1.5 * GRID)
        gradient = QLinearGradient(bar.topLeft(), bar.topRight())
        for i, colour in enumerate(RELIEF):
            gradient.setColorAt(i / (len(RELIEF) - 1), QColor(colour))
        painter.fillRect(bar, gradient)
        painter.setPen(QColor("#FFFFFF"))
        painter.setFont(figures_font(0.9))
        for value in (1, 4, 16, 64, 255):
            x = bar.left() + np.log1p(value) / np.log(256) * bar.width()
            painter.drawText(
                QRectF(x - 3 * GRID, bar.bottom() + 2, 6 * GRID, 2 * GRID), Qt.AlignmentFlag.AlignCenter, str(value)
            )
        below = QRectF(bar.left(), bar.bottom() + 2.5 * GRID, bar.width(), 2 * GRID)
        painter.drawText(below, Qt.AlignmentFlag.AlignCenter, "largest difference of a channel; grey: equal")

    def _move(self, x: float) -> None:
        box = self._box()
        if box.width() > 0:
            self.position = min(max((x - box.left()) / box.width(), 0.0), 1.0)
            self.update()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self._move(event.position().x())

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        self._move(event.position().x())

    def keyPressEvent(self, event: QKeyEvent) -> None:
        by = {Qt.Key.Key_Left: -0.02, Qt.Key.Key_Right: 0.02}.get(Qt.Key(event.key()))
        if by is None:
            super().keyPressEvent(event)
        else:
            self.position = min(max(self.position + by, 0.0), 1.0)
            self.update()
