"""The frames of a sequence as columns: how long each took, in calls, in waits, in the program's own code."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import QEvent, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QBrush, QColor, QHelpEvent, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QToolTip, QWidget

from wendascope.analysis.sequence.over_time import FrameInTime
from wendascope.desktop.widgets.theme import GRID, figures_font, theme
from wendascope.texts import three_digits

_SCALE = 6 * GRID
"""Room for the scale at the left."""
_WIDEST = 12 * GRID


class FramesChart(QWidget):
    """Full is the program's own code, dark is calls, hatched is waiting. A click or the arrow keys choose a frame."""

    chosen = Signal(int)
    """The place of the chosen frame, from 0."""

    def __init__(self) -> None:
        super().__init__()
        self._frames: list[FrameInTime] = []
        self._slow = self._current = -1
        self._budget = 0.0
        self.setFont(figures_font(0.9))
        self.setMinimumHeight(20 * GRID)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Frames of the sequence, by how long they took")

    def show_frames(self, frames: Sequence[FrameInTime], slow: int, current: int, budget_ms: float) -> None:
        """`slow` and `current` are places of frames, -1 for none."""
        self._frames, self._slow, self._current, self._budget = list(frames), slow, current, budget_ms
        self.update()

    def _area(self) -> QRectF:
        return QRectF(self.rect()).adjusted(_SCALE, GRID, -GRID, -3 * GRID)

    def _column(self, place: int) -> QRectF:
        """Where a frame's column stands, over the whole height."""
        area = self._area()
        width = min(area.width() / max(len(self._frames), 1), _WIDEST)
        return QRectF(area.left() + place * width, area.top(), width, area.height())

    def place_at(self, x: float) -> int | None:
        """The frame at a place of the chart."""
        return next(
            (k for k in range(len(self._frames)) if self._column(k).left() <= x < self._column(k).right()), None
        )

    def paintEvent(self, event: QPaintEvent) -> None:
        if not self._frames:
            return
        painter, t, area = QPainter(self), theme(), self._area()
        top = 1.1 * max(max(row.ms for row in self._frames), self._budget, 1e-9)
        up = area.height() / top
        for place, row in enumerate(self._frames):
            box = self._column(place).adjusted(2, 0, -2, 0)
            if place == self._current:
                painter.fillRect(self._column(place), QColor(t.raised))
            y = box.bottom()
            hatch = QBrush(QColor(t.soft), Qt.BrushStyle.BDiagPattern)
            for ms, brush in (
                (row.calls_ms, QBrush(QColor(t.ink))),
                (row.waits_ms, hatch),
                (row.own_ms, QBrush(QColor(t.bar))),
            ):
                painter.fillRect(QRectF(box.left(), y - ms * up, box.width(), ms * up), brush)
                y -= ms * up
            if place == self._slow:
                painter.setPen(QPen(QColor(t.accent), 3))
                painter.drawRect(QRectF(box.left(), y, box.width(), box.bottom() - y))
            painter.setPen(QColor(t.accent if place == self._slow else t.soft))
            if box.width() > 3 * GRID or place % 5 == 0:
                below = QRectF(self._column(place).left(), area.bottom(), self._column(place).width(), 2.5 * GRID)
                painter.drawText(below, Qt.AlignmentFlag.AlignCenter, f"{row.number}")
        painter.setPen(QColor(t.soft))
        for ms in (0.0, top / 2.2, top / 1.1):
            self._mark(painter, area.bottom() - ms * up, three_digits(ms) + (" ms" if ms == 0 else ""))
        painter.setPen(QPen(QColor(t.ink), 1, Qt.PenStyle.DashLine))
        y = area.bottom() - self._budget * up
        painter.drawLine(QPointF(area.left(), y), QPointF(area.right(), y))

    def _mark(self, painter: QPainter, y: float, text: str) -> None:
        align = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        painter.drawText(QRectF(0, y - GRID, _SCALE - 6, 2 * GRID), align, text)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        place = self.place_at(event.position().x())
        if place is not None:
            self.chosen.emit(place)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        by = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}.get(Qt.Key(event.key()))
        if by is None or not self._frames:
            super().keyPressEvent(event)
        else:
            self.chosen.emit(min(max(self._current + by, 0), len(self._frames) - 1))

    def event(self, event: QEvent) -> bool:
        if event.type() == QEvent.Type.ToolTip and isinstance(event, QHelpEvent):
            place = self.place_at(event.pos().x())
            row = self._frames[place] if place is not None else None
            text = "" if row is None else _told(row)
            QToolTip.showText(event.globalPos(), text, self)
            return True
        return super().event(event)


def _told(row: FrameInTime) -> str:
    parts = ((row.calls_ms, "in calls"), (row.waits_ms, "in waits"), (row.own_ms, "in its own code"))
    times = ", ".join(f"{three_digits(ms)} {where}" for ms, where in parts)
    return f"frame {row.number}, the program's frame {row.frame_number:,}\n{three_digits(row.ms)} ms: {times}"
