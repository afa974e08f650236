"""Memory of the running program over its session: textures, renderbuffers and buffers upon each other, marks as
lines.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import numpy.typing as npt
from PySide6.QtCore import QEvent, QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QColor, QHelpEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QSizePolicy, QToolTip, QWidget

from wendascope.desktop.widgets.theme import GRID, figures_font, pass_colour, theme
from wendascope.texts import memory

_SCALE = 8 * GRID
KINDS = ("textures", "renderbuffers", "buffers")


class MemoryChart(QWidget):
    """Newest at the right."""

    def __init__(self) -> None:
        super().__init__()
        self._history: npt.NDArray[np.float64] = np.zeros((0, 5))
        self._marks: list[tuple[int, int]] = []
        self.setFont(figures_font(0.9))
        self.setMinimumHeight(14 * GRID)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Preferred)
        self.setAccessibleName("Memory of the running program over time")

    def sizeHint(self) -> QSize:
        return QSize(60 * GRID, 16 * GRID)

    def show_history(self, history: npt.NDArray[np.float64], marks: Sequence[tuple[int, int]]) -> None:
        """`history` of shape (moments, 5): frame, bytes of each of `KINDS`, objects; `marks` as (number, frame)."""
        self._history, self._marks = history, list(marks)
        self.update()

    def _area(self) -> QRectF:
        return QRectF(_SCALE, GRID, self.width() - _SCALE - GRID, self.height() - 4 * GRID)

    def _x(self, frame: float) -> float:
        area, first, last = self._area(), self._history[0, 0], self._history[-1, 0]
        return float(area.left() + (frame - first) / max(last - first, 1.0) * area.width())

    def paintEvent(self, event: QPaintEvent) -> None:
        painter, t, area = QPainter(self), theme(), self._area()
        painter.fillRect(area, QColor(t.raised))
        painter.setPen(QColor(t.soft))
        if len(self._history) < 2:
            painter.drawText(area, Qt.AlignmentFlag.AlignCenter, "memory appears here while the program runs")
            return
        layers = np.cumsum(self._history[:, 1:4], axis=1)
        top = max(float(layers[:, -1].max()) * 1.15, 1.0)
        xs = [self._x(frame) for frame in self._history[:, 0].tolist()]
        below = np.zeros(len(xs))
        for number in range(len(KINDS)):
            line = layers[:, number]
            edge = [*self._points(xs, line, top), *reversed(self._points(xs, below, top))]
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(pass_colour(number))
            painter.drawPolygon(QPolygonF(edge))
            below = line
        self._write(painter, top)

    def _points(self, xs: list[float], values: npt.NDArray[np.float64], top: float) -> list[QPointF]:
        area = self._area()
        ys = area.bottom() - values / top * area.height()
        return [QPointF(x, y) for x, y in zip(xs, ys.tolist(), strict=True)]

    def _write(self, painter: QPainter, top: float) -> None:
        t, area = theme(), self._area()
        painter.setPen(QColor(t.soft))
        for part in (0.0, 0.5, 1.0):
            y = area.bottom() - part / 1.15 * area.height()
            align = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
            painter.drawText(QRectF(0, y - GRID, _SCALE - 6, 2 * GRID), align, memory(part * top / 1.15))
        for number, frame in self._marks:
            if frame < self._history[0, 0]:
                continue
            x = min(self._x(frame), area.right())
            painter.setPen(QPen(QColor(t.ink), 1, Qt.PenStyle.DashLine))
            painter.drawLine(QPointF(x, area.top()), QPointF(x, area.bottom()))
            painter.setPen(QColor(t.ink))
            painter.drawText(
                QRectF(x - 3 * GRID, area.top(), 3 * GRID - 3, 2 * GRID), Qt.AlignmentFlag.AlignRight, f"{number}"
            )
        x = area.left()
        for number, (kind, size) in enumerate(zip(KINDS, self._history[-1, 1:4].tolist(), strict=True)):
            box = QRectF(x, area.bottom() + GRID, 1.5 * GRID, 1.5 * GRID)
            painter.fillRect(box, pass_colour(number))
            painter.setPen(QColor(t.soft))
            text = f"{kind} {memory(size)}"
            width = painter.fontMetrics().horizontalAdvance(text)
            painter.drawText(
                QRectF(box.right() + 6, area.bottom() + 4, width + 2, 2.5 * GRID), Qt.AlignmentFlag.AlignVCenter, text
            )
            x = box.right() + width + 4 * GRID

    def event(self, event: QEvent) -> bool:
        if event.type() == QEvent.Type.ToolTip and isinstance(event, QHelpEvent):
            text = ""
            if len(self._history) > 1 and self._area().contains(QPointF(event.pos())):
                xs = np.array([self._x(frame) for frame in self._history[:, 0].tolist()])
                row = self._history[int(np.abs(xs - event.pos().x()).argmin())]
                parts = ", ".join(f"{memory(size)} {kind}" for kind, size in zip(KINDS, row[1:4].tolist(), strict=True))
                text = f"frame {int(row[0]):,}\n{parts}\n{int(row[4]):,} objects"
            QToolTip.showText(event.globalPos(), text, self)
            return True
        return super().event(event)
