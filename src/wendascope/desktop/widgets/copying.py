"""Tables whose rows go to the clipboard as text."""

from __future__ import annotations

from typing import Any

from PySide6.QtGui import QGuiApplication, QKeySequence


class CopiesText:
    """Mixed into a view before its Qt class: the copy key puts `as_text` on the clipboard."""

    def as_text(self) -> str:
        """Tab-separated, with the header."""
        raise NotImplementedError

    def keyPressEvent(self, event: Any) -> None:
        if event.matches(QKeySequence.StandardKey.Copy):
            QGuiApplication.clipboard().setText(self.as_text())
        else:
            super().keyPressEvent(event)  # type: ignore[misc]
