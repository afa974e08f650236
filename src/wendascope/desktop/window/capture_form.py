"""What to run: program, arguments, folder, environment, and the targets that were run before."""

from __future__ import annotations

import os
import shlex
from pathlib import Path

import msgspec
from PySide6.QtCore import QSettings, Signal
from PySide6.QtWidgets import QComboBox, QFileDialog, QFormLayout, QHBoxLayout, QLineEdit, QPushButton, QWidget

from wendascope.desktop.widgets.theme import GRID
from wendascope.tap.channel import FrameEnd

_RECENT = 12
_FRAME_ENDS = {
    "swap": "when it swaps buffers",
    "readback": "when it reads a picture back",
    "marker": "at its debug messages",
}


class TargetChoice(msgspec.Struct):
    """One program as it was run."""

    program: str = ""
    arguments: str = ""
    folder: str = ""
    environment: str = ""
    frame_end: str = "swap"

    @property
    def command(self) -> list[str]:
        """Raises ValueError when quotes do not match."""
        program = os.path.expanduser(self.program)  # noqa: PTH111 - a path object would lose a leading ./
        return [program, *shlex.split(self.arguments)]

    @property
    def assignments(self) -> list[str]:
        """Raises ValueError when quotes do not match or something is no assignment."""
        found = shlex.split(self.environment)
        for item in found:
            if "=" not in item or item.startswith("="):
                raise ValueError(f"{item!r} is not NAME=value")
        return found


class CaptureForm(QWidget):
    """Remembers what was run."""

    submitted = Signal()

    def __init__(self, settings: QSettings) -> None:
        super().__init__()
        self._settings = settings
        self.recent = QComboBox()
        self.recent.setPlaceholderText("run before")
        self.recent.setToolTip("Programs that were run before")
        self.recent.activated.connect(self._choose_recent)
        self.program, self.arguments, self.folder, self.environment = QLineEdit(), QLineEdit(), QLineEdit(), QLineEdit()
        self.program.setPlaceholderText("./my_program")
        self.arguments.setPlaceholderText("as in a shell")
        self.folder.setPlaceholderText("the current one")
        self.environment.setPlaceholderText("NAME=value OTHER='a value'")
        self.frame_end = QComboBox()
        for name, text in _FRAME_ENDS.items():
            self.frame_end.addItem(text, name)
        for field in (self.program, self.arguments, self.folder, self.environment):
            field.returnPressed.connect(self.submitted)
        layout = QFormLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setVerticalSpacing(GRID // 2)
        layout.addRow("Recent", self.recent)
        layout.addRow("Program", self._with_button(self.program, self._browse_program))
        layout.addRow("Arguments", self.arguments)
        layout.addRow("Folder", self._with_button(self.folder, self._browse_folder))
        layout.addRow("Environment", self.environment)
        layout.addRow("A frame ends", self.frame_end)
        self._fill_recent()
        if self._recents():
            self.show_choice(self._recents()[0])

    def _with_button(self, field: QLineEdit, run) -> QWidget:  # type: ignore[no-untyped-def]
        button = QPushButton("...")
        button.setFixedWidth(4 * GRID)
        button.setToolTip("Browse")
        button.clicked.connect(run)
        row = QWidget()
        layout = QHBoxLayout(row)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(GRID // 2)
        layout.addWidget(field, 1)
        layout.addWidget(button)
        return row

    def choice(self) -> TargetChoice:
        return TargetChoice(
            self.program.text().strip(),
            self.arguments.text().strip(),
            self.folder.text().strip(),
            self.environment.text().strip(),
            str(self.frame_end.currentData() or FrameEnd.swap.name),
        )

    def show_choice(self, choice: TargetChoice) -> None:
        self.program.setText(choice.program)
        self.arguments.setText(choice.arguments)
        self.folder.setText(choice.folder)
        self.environment.setText(choice.environment)
        self.frame_end.setCurrentIndex(max(self.frame_end.findData(choice.frame_end), 0))

    def remember(self, choice: TargetChoice) -> None:
        kept = [choice, *(other for other in self._recents() if other != choice)][:_RECENT]
        self._settings.setValue("targets", msgspec.json.encode(kept).decode())
        self._fill_recent()

    def _recents(self) -> list[TargetChoice]:
        try:
            return msgspec.json.decode(str(self._settings.value("targets", "[]")), type=list[TargetChoice])
        except msgspec.DecodeError:
            return []

    def _fill_recent(self) -> None:
        self.recent.clear()
        for choice in self._recents():
            self.recent.addItem(f"{Path(choice.program).name} {choice.arguments}".strip()[:60])
        self.recent.setCurrentIndex(-1)
        self.recent.setEnabled(self.recent.count() > 0)

    def _choose_recent(self, index: int) -> None:
        recents = self._recents()
        if 0 <= index < len(recents):
            self.show_choice(recents[index])

    def _browse_program(self) -> None:
        name, _ = QFileDialog.getOpenFileName(self, "Program to run", self.program.text() or str(Path.home()))
        if name:
            self.program.setText(name)

    def _browse_folder(self) -> None:
        name = QFileDialog.getExistingDirectory(self, "Folder to run it in", self.folder.text() or str(Path.home()))
        if name:
            self.folder.setText(name)
