"""The legend of a picture: what its colours mean and how much of it they are."""

from __future__ import annotations

from PySide6.QtCore import QRect, QSize, Qt
from PySide6.QtGui import QColor, QPainter, QPaintEvent
from PySide6.QtWidgets import QSizePolicy, QWidget

from wendascope.desktop.widgets.theme import GRID, figures_font, theme
from wendascope.measure.lenses import LegendEntry
from wendascope.texts import share as per_cent

_BAR = 3 * GRID


class Legend(QWidget):
    """Side by side: a column as high as its share, its swatch below, then text and share."""

    def __init__(self) -> None:
        super().__init__()
        self._entries: list[LegendEntry] = []
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName("Legend")
        self.hide()

    def show_entries(self, entries: list[LegendEntry]) -> None:
        self._entries = entries
        self.setVisible(bool(entries))
        self.setToolTip("\n".join(f"{e.text}: {per_cent(e.share, 1)}" for e in entries))
        self.update()

    @property
    def entries(self) -> list[LegendEntry]:
        return self._entries

    def sizeHint(self) -> QSize:
        return QSize(200, _BAR + 2 * GRID + 2 * self.fontMetrics().height())

    def paintEvent(self, event: QPaintEvent) -> None:
        if not self._entries:
            return
        painter, t = QPainter(self), theme()
        painter.setFont(figures_font(0.9))
        width = (self.width() - 2 * GRID) / len(self._entries)
        largest = max(e.share for e in self._entries) or 1.0
        line = painter.fontMetrics().height()
        top = GRID // 2
        for number, entry in enumerate(self._entries):
            left, right = round(GRID + number * width), round(GRID + (number + 1) * width) - 2
            height = round(_BAR * entry.share / largest)
            painter.fillRect(QRect(left, top + _BAR - height, right - left, height), QColor(t.bar))
            swatch = QRect(left, top + _BAR, right - left, GRID)
            painter.fillRect(swatch, QColor(entry.colour))
            painter.setPen(QColor(t.ink))
            text = painter.fontMetrics().elidedText(entry.text, Qt.TextElideMode.ElideRight, right - left)
            painter.drawText(QRect(left, swatch.bottom() + 2, right - left, line), Qt.AlignmentFlag.AlignCenter, text)
            painter.setPen(QColor(t.soft))
            share = f"{per_cent(entry.share)}" if entry.share >= 0.005 or entry.share == 0 else "<1%"
            painter.drawText(
                QRect(left, swatch.bottom() + 2 + line, right - left, line), Qt.AlignmentFlag.AlignCenter, share
            )
