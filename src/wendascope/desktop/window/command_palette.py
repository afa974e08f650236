"""The command palette: every action of the window, found by a few letters."""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import QEvent, QObject, Qt
from PySide6.QtGui import QAction, QKeyEvent
from PySide6.QtWidgets import QDialog, QLineEdit, QListWidget, QListWidgetItem, QVBoxLayout, QWidget

from wendascope.desktop.widgets.theme import GRID


def matches(words: str, text: str) -> bool:
    """Whether every word occurs in the text, in any order."""
    lowered = text.lower()
    return all(word in lowered for word in words.lower().split())


class CommandPalette(QDialog):
    """Type to narrow, arrows to move, Enter to run."""

    def __init__(self, actions: list[tuple[str, QAction]], parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle("All commands")
        self.resize(60 * GRID, 48 * GRID)
        self._actions = actions
        self.input = QLineEdit()
        self.input.setPlaceholderText("What do you want to do?")
        self.list = QListWidget()
        layout = QVBoxLayout(self)
        layout.addWidget(self.input)
        layout.addWidget(self.list)
        self.input.textChanged.connect(self._narrow)
        self.input.installEventFilter(self)
        self.input.returnPressed.connect(self._run)
        self.list.itemActivated.connect(lambda _item: self._run())
        self._narrow("")

    def _narrow(self, text: str) -> None:
        self.list.clear()
        for path, action in self._actions:
            if action.isEnabled() and matches(text, path):
                shortcut = action.shortcut().toString()
                item = QListWidgetItem(f"{path}{'    ' + shortcut if shortcut else ''}")
                item.setData(Qt.ItemDataRole.UserRole, action)
                self.list.addItem(item)
        self.list.setCurrentRow(0)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if event.type() == QEvent.Type.KeyPress and isinstance(event, QKeyEvent):
            step = {Qt.Key.Key_Down: 1, Qt.Key.Key_Up: -1}.get(Qt.Key(event.key()))
            if step is not None:
                self.list.setCurrentRow(min(max(self.list.currentRow() + step, 0), self.list.count() - 1))
                return True
        return super().eventFilter(watched, event)

    def _run(self) -> None:
        item = self.list.currentItem()
        self.accept()
        if item is not None:
            action: Any = item.data(Qt.ItemDataRole.UserRole)
            action.trigger()
