"""The frames of the running program as they come: CPU time solid, time blocked in the swap hatched, against the
budget.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QBrush, QColor, QHelpEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QSizePolicy, QToolTip, QWidget

from wendascope.desktop.models.session import KEPT_FRAMES
from wendascope.desktop.widgets.theme import GRID, figures_font, theme

_SCALE = 7 * GRID
"""Room at the left for the figures of the scale."""
_STEPS_MS = (1, 2, 5, 10, 20, 50, 100, 200, 500, 1000, 2000, 5000)


class LiveStrip(QWidget):
    """Newest frame at the right."""

    def __init__(self) -> None:
        super().__init__()
        self._beats: npt.NDArray[np.float64] = np.zeros((0, 10))
        self._budget = 16.7
        self.setMinimumHeight(14 * GRID)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName("Frames of the running program")

    def sizeHint(self) -> QSize:
        return QSize(60 * GRID, 15 * GRID)

    def show_beats(self, beats: npt.NDArray[np.float64], budget_ms: float) -> None:
        """`beats` as the model gives them, shape (frames, 10)."""
        self._beats, self._budget = beats, budget_ms
        self.update()

    def _top_ms(self) -> float:
        totals = self._beats[:, 1] + self._beats[:, 2]
        longest = float(np.percentile(totals, 98)) if len(totals) else 0.0
        return max(1.2 * longest, 1.4 * self._budget)

    def _width(self) -> float:
        return max((self.width() - _SCALE - GRID) / KEPT_FRAMES, 1.0)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter, t = QPainter(self), theme()
        area = QRectF(_SCALE, GRID, self.width() - _SCALE - GRID, self.height() - 2 * GRID)
        painter.fillRect(area, QColor(t.raised))
        top = self._top_ms()
        up = area.height() / top
        step = next((s for s in _STEPS_MS if top / s <= 4), _STEPS_MS[-1])
        painter.setFont(figures_font(0.9))
        for ms in np.arange(0, top, step):
            y = area.bottom() - ms * up
            painter.setPen(QColor(t.line))
            painter.drawLine(QPointF(area.left(), y), QPointF(area.right(), y))
            if abs(ms - self._budget) * up > 1.5 * GRID:
                painter.setPen(QColor(t.soft))
                painter.drawText(
                    QRectF(0, y - GRID, _SCALE - 6, 2 * GRID),
                    Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
                    f"{ms:g}" + (" ms" if ms == 0 else ""),
                )
        width = self._width()
        left = area.right() - width * len(self._beats)
        solid, hatched = QColor(t.soft), QBrush(QColor(t.soft), Qt.BrushStyle.BDiagPattern)
        for i, (_, cpu, swap, *_rest) in enumerate(self._beats.tolist()):
            x = left + i * width
            tall = min(cpu, top) * up
            painter.fillRect(QRectF(x, area.bottom() - tall, max(width - 1, 1), tall), solid)
            above = min(swap, top - min(cpu, top)) * up
            painter.fillRect(QRectF(x, area.bottom() - tall - above, max(width - 1, 1), above), hatched)
        y = area.bottom() - self._budget * up
        painter.setPen(QPen(QColor(t.ink), 1, Qt.PenStyle.DashLine))
        painter.drawLine(QPointF(area.left(), y), QPointF(area.right(), y))
        painter.drawText(
            QRectF(0, y - GRID, _SCALE - 6, 2 * GRID),
            Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
            f"{self._budget:g}",
        )
        if len(self._beats) == 0:
            painter.setPen(QColor(t.soft))
            painter.drawText(area, Qt.AlignmentFlag.AlignCenter, "frames appear here while the program runs")

    def event(self, event):  # type: ignore[no-untyped-def]
        if isinstance(event, QHelpEvent):
            index = len(self._beats) - 1 - int((self.width() - GRID - event.pos().x()) / self._width())
            if 0 <= index < len(self._beats):
                number, cpu, swap, calls, draws, vertices = self._beats[index, :6].tolist()
                text = (
                    f"frame {int(number):,}\n{cpu:.2f} ms between swaps\n{swap:.2f} ms blocked in the"
                    f" swap\n{int(calls):,} calls, {int(draws):,} draws, {int(vertices):,} vertices"
                )
                QToolTip.showText(event.globalPos(), text, self)
            return True
        return super().event(event)
