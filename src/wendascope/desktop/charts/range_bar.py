"""How many texels have which value, with two handles for the values that are shown black and white."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QSizePolicy, QWidget

from wendascope.desktop.widgets.theme import GRID, theme

_HEIGHT = 3 * GRID
_HANDLE = 5
_KEY_STEP = 0.02
"""Of the width, for each press of an arrow key."""


class RangeBar(QWidget):
    """Drag a handle; with the keyboard, arrows move the white end and arrows with Shift the black one."""

    changed = Signal(float, float)
    """(low, high), while they are moved."""

    def __init__(self) -> None:
        super().__init__()
        self._counts: npt.NDArray[np.int64] = np.zeros(1, np.int64)
        self._ends = (0.0, 1.0)
        self.low, self.high = 0.0, 1.0
        self._held: int | None = None
        self.setMinimumWidth(10 * GRID)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Range of values that is shown")

    def sizeHint(self) -> QSize:
        return QSize(20 * GRID, _HEIGHT)

    def show_values(self, counts: npt.NDArray[np.int64], ends: tuple[float, float], low: float, high: float) -> None:
        """Counts of values between two ends, and which of them are black and white."""
        self._counts, self._ends, self.low, self.high = counts, ends, low, high
        self.setAccessibleDescription(f"black {low:.3g}, white {high:.3g}")
        self.setToolTip(f"Black {low:.4g}, white {high:.4g}. Values from {ends[0]:.4g} to {ends[1]:.4g}.")
        self.update()

    def _x(self, value: float) -> float:
        first, last = self._ends
        part = (value - first) / (last - first) if last > first else 0.0
        return _HANDLE + min(max(part, 0.0), 1.0) * (self.width() - 2 * _HANDLE)

    def _value(self, x: float) -> float:
        first, last = self._ends
        part = (x - _HANDLE) / max(self.width() - 2 * _HANDLE, 1)
        return first + min(max(part, 0.0), 1.0) * (last - first)

    def _move(self, handle: int, value: float) -> None:
        least = (self._ends[1] - self._ends[0]) / 1000
        if handle == 0:
            self.low = min(value, self.high - least)
        else:
            self.high = max(value, self.low + least)
        self.update()
        self.changed.emit(self.low, self.high)

    # ---- painting and hands -----------------------------------------------------------------------------

    def paintEvent(self, event: QPaintEvent) -> None:
        painter, t = QPainter(self), theme()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        room = QRectF(_HANDLE, 1, self.width() - 2 * _HANDLE, self.height() - 7)
        painter.fillRect(room, QColor(t.raised))
        most = float(self._counts.max(initial=0)) or 1.0
        width = room.width() / len(self._counts)
        for k in np.flatnonzero(self._counts).tolist():
            tall = max((float(self._counts[k]) / most) ** 0.5 * room.height(), 1.0)
            painter.fillRect(QRectF(room.left() + k * width, room.bottom() - tall, width, tall), QColor(t.bar))
        for value, fill in ((self.low, "#101418"), (self.high, "#FFFFFF")):
            x = self._x(value)
            painter.setPen(QPen(QColor(t.accent if self.hasFocus() else t.ink), 1.4))
            painter.drawLine(QPointF(x, room.top()), QPointF(x, room.bottom()))
            painter.setBrush(QColor(fill))
            foot = room.bottom()
            painter.drawPolygon(
                QPolygonF(
                    [QPointF(x, foot - 3), QPointF(x - _HANDLE + 1, foot + 5), QPointF(x + _HANDLE - 1, foot + 5)]
                )
            )

    def mousePressEvent(self, event: QMouseEvent) -> None:
        x = event.position().x()
        away = [abs(self._x(value) - x) for value in (self.low, self.high)]
        self._held = 0 if away[0] < away[1] or (away[0] == away[1] and x < self._x(self.low)) else 1
        self._move(self._held, self._value(x))

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._held is not None:
            self._move(self._held, self._value(event.position().x()))

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self._held = None

    def keyPressEvent(self, event: QKeyEvent) -> None:
        by = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}.get(Qt.Key(event.key()))
        if by is None:
            super().keyPressEvent(event)
            return
        handle = 0 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1
        value = self.high if handle else self.low
        self._move(handle, value + by * _KEY_STEP * (self._ends[1] - self._ends[0]))
