"""Widgets and texts in which what a file says is only text: no markup, no marks that turn or break a line."""

from __future__ import annotations

import html

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QLabel, QWidget

from wendascope.texts import visible_lines


class Label(QLabel):
    """A label of plain text, unless its format is set to another."""

    def __init__(self, text: str = "", parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setTextFormat(Qt.TextFormat.PlainText)
        self.setText(text)

    def setText(self, text: str) -> None:
        super().setText(visible_lines(text))


def plain_tip(text: str) -> str:
    """A tooltip of plain text: Qt would take some texts for markup."""
    shown = visible_lines(text)
    if not ("<" in shown or "&" in shown):
        return shown
    return "<qt>" + html.escape(shown).replace("\n", "<br>") + "</qt>"
