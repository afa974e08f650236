"""One bar for the main point of a page: the parts of a whole to scale, the marked ones in the accent colour."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import QEvent, QRectF, QSize, Qt
from PySide6.QtGui import QColor, QFontMetricsF, QHelpEvent, QPainter, QPaintEvent
from PySide6.QtWidgets import QSizePolicy, QToolTip, QWidget

from wendascope.analysis.time.shares import Part
from wendascope.desktop.widgets.theme import GRID, figures_font, is_dark, theme

_HEIGHT = 3 * GRID
_LEAST = 3
"""Pixels of a part that is there at all."""


class PartsBar(QWidget):
    """Hidden where there is nothing to show. Texts that do not fit into their parts are in the tooltip."""

    def __init__(self, name: str) -> None:
        super().__init__()
        self.parts: list[Part] = []
        self.setAccessibleName(name)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFont(figures_font(0.9))
        self.hide()

    def sizeHint(self) -> QSize:
        return QSize(200, _HEIGHT)

    def show_parts(self, parts: Sequence[Part]) -> None:
        """Show the parts in their order; what is 0 is left out."""
        self.parts = [part for part in parts if part.amount > 0]
        self.setVisible(bool(self.parts))
        self.setAccessibleDescription("; ".join(part.text for part in self.parts))
        self.update()

    def _boxes(self) -> list[tuple[Part, QRectF]]:
        whole = sum(part.amount for part in self.parts)
        room = self.width() - _LEAST * len(self.parts)
        found, x = [], 0.0
        for part in self.parts:
            width = _LEAST + room * part.amount / whole
            found.append((part, QRectF(x, 0, width - 1, self.height())))
            x += width
        return found

    def paintEvent(self, event: QPaintEvent) -> None:
        painter, t = QPainter(self), theme()
        metrics = QFontMetricsF(self.font())
        for number, (part, box) in enumerate(self._boxes()):
            colour = QColor(t.accent if part.marked else t.bar)
            if part.marked:
                colour.setAlphaF(1.0 if number % 2 else 0.82)
            elif number % 2:
                colour = colour.lighter(125) if is_dark() else colour.darker(108)
            painter.fillRect(box, colour)
            inner = box.adjusted(GRID, 0, -GRID // 2, 0)
            text = metrics.elidedText(part.text, Qt.TextElideMode.ElideRight, inner.width())
            if inner.width() > metrics.horizontalAdvance(part.text[:4] + "…"):
                painter.setPen(QColor(("#1B1E22" if is_dark() else "#FFFFFF") if part.marked else t.ink))
                painter.drawText(inner, Qt.AlignmentFlag.AlignVCenter, text)

    def event(self, event: QEvent) -> bool:
        if event.type() == QEvent.Type.ToolTip and isinstance(event, QHelpEvent):
            here = next(
                (part.text for part, box in self._boxes() if box.left() <= event.pos().x() <= box.right() + 1), ""
            )
            QToolTip.showText(event.globalPos(), here, self)
            return True
        return super().event(event)
