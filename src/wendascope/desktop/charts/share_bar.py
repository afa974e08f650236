"""The delegate of all tables: a bar behind a figure shows its share; dots for what is estimated."""

from __future__ import annotations

from PySide6.QtCore import QModelIndex, QPersistentModelIndex, QRect, Qt
from PySide6.QtGui import QBrush, QColor, QPainter
from PySide6.QtWidgets import QStyledItemDelegate, QStyleOptionViewItem

from wendascope.desktop.widgets.theme import theme

BAR = Qt.ItemDataRole.UserRole
"""What models answer with (share from 0 to 1, whether it was measured), or None for no bar."""


class ShareDelegate(QStyledItemDelegate):
    """Draws the bar, then the figure as ever."""

    def paint(
        self, painter: QPainter, option: QStyleOptionViewItem, index: QModelIndex | QPersistentModelIndex
    ) -> None:
        bar = index.data(BAR)
        if bar:
            share, measured = bar
            box = option.rect.adjusted(2, 3, -2, -3)
            width = int(box.width() * min(max(share, 0.0), 1.0))
            place = QRect(box.right() - width + 1, box.top(), width, box.height())
            colour = QColor(theme().bar)
            painter.fillRect(place, colour if measured else QBrush(colour, Qt.BrushStyle.Dense5Pattern))
        super().paint(painter, option, index)
