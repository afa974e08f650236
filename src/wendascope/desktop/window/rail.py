"""The question rail: one entry a page, each with its answer as a figure."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QEvent, QRect, QSize, Qt, Signal
from PySide6.QtGui import QColor, QHelpEvent, QKeyEvent, QMouseEvent, QPainter, QPaintEvent
from PySide6.QtWidgets import QSizePolicy, QToolTip, QWidget

from wendascope.desktop.widgets.theme import GRID, figures_font, theme

_ROW, _LEAST_ROW = 50, 40


class QuestionRail(QWidget):
    """Up and down move, a click chooses."""

    chosen = Signal(int)

    def __init__(
        self, titles: list[str], figure: Callable[[str], str], missing: Callable[[str], tuple[str, str]]
    ) -> None:
        """Of a page, by its title, `figure` is its answer; where that is empty, `missing` tells what it waits for: in a
        word or two, and what to do.
        """
        super().__init__()
        self._titles, self._figure, self._missing = titles, figure, missing
        self.current = 0
        self.setFixedWidth(12 * GRID)
        self.setSizePolicy(QSizePolicy.Policy.Fixed, QSizePolicy.Policy.Expanding)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Questions")

    def sizeHint(self) -> QSize:
        return QSize(12 * GRID, _ROW * len(self._titles))

    @property
    def _row(self) -> int:
        """Height of an entry: less where there is no room for all of them."""
        return min(_ROW, max(self.height() // max(len(self._titles), 1), _LEAST_ROW))

    def choose(self, row: int) -> None:
        if 0 <= row < len(self._titles) and row != self.current:
            self.current = row
            self.update()
            self.chosen.emit(row)

    def figure_of(self, title: str) -> str:
        """What stands under a title: the answer, or what is there in its place."""
        return self._figure(title) or self._missing(title)[0]

    def paintEvent(self, event: QPaintEvent) -> None:
        painter, t = QPainter(self), theme()
        painter.fillRect(self.rect(), QColor(t.paper))
        for row, title in enumerate(self._titles):
            box = QRect(0, row * self._row, self.width(), self._row)
            if row == self.current:
                painter.fillRect(box, QColor(t.raised))
                painter.fillRect(QRect(0, box.top(), 4, self._row), QColor(t.accent))
            inner = box.adjusted(2 * GRID, 3, -GRID, -3)
            painter.setPen(QColor(t.ink))
            painter.setFont(figures_font())
            painter.drawText(inner, Qt.AlignmentFlag.AlignTop | Qt.AlignmentFlag.AlignLeft, title)
            painter.setFont(figures_font(1.2))
            painter.setPen(QColor(t.soft))
            painter.drawText(
                inner,
                Qt.AlignmentFlag.AlignBottom | Qt.AlignmentFlag.AlignLeft,
                self.figure_of(title),
            )

    def event(self, event: QEvent) -> bool:
        if event.type() == QEvent.Type.ToolTip and isinstance(event, QHelpEvent):
            row = event.pos().y() // self._row
            title = self._titles[row] if 0 <= row < len(self._titles) else ""
            waits = bool(title) and not self._figure(title)
            QToolTip.showText(event.globalPos(), self._missing(title)[1] if waits else "", self)
            return True
        return super().event(event)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self.choose(int(event.position().y()) // self._row)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        step = {Qt.Key.Key_Down: 1, Qt.Key.Key_Up: -1}.get(Qt.Key(event.key()))
        if step is None:
            super().keyPressEvent(event)
        else:
            self.choose(self.current + step)
