"""A bar behind a figure that is a share."""

from __future__ import annotations

from PySide6.QtCore import QModelIndex, QPersistentModelIndex, Qt
from PySide6.QtGui import QColor, QPainter
from PySide6.QtWidgets import QStyledItemDelegate, QStyleOptionViewItem

from wendascope.desktop.theme import theme


class ShareDelegate(QStyledItemDelegate):
    """Draws the share's bar behind its figure."""

    def paint(
        self, painter: QPainter, option: QStyleOptionViewItem, index: QModelIndex | QPersistentModelIndex
    ) -> None:
        share = index.data(Qt.ItemDataRole.UserRole)
        if share:
            box = option.rect.adjusted(2, 3, -2, -3)  # type: ignore[attr-defined]
            width = int(box.width() * min(share, 1.0))
            painter.fillRect(box.right() - width + 1, box.top(), width, box.height(), QColor(theme().bar))
        super().paint(painter, option, index)
