"""The sections of the plan as a row of buttons, each with how many recommendations it holds."""

from __future__ import annotations

from collections.abc import Mapping

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QButtonGroup, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from wendascope.advice.recommend import Section

_TITLES = {
    Section.TIME: ("Same picture", "What saves time with the same picture: proved first, then what is not tried yet"),
    Section.QUALITY: ("Quality for time", "What changes the picture and saves time: most time per visible pixel first"),
    Section.MEMORY: ("Memory", "What needs less graphics memory"),
    Section.NOTHING: ("Others", "Tried without a gain, small, or a part of something larger"),
}


class SectionButtons(QWidget):
    """One of four is chosen."""

    chosen = Signal(object)
    """The section, once somebody chose it."""

    def __init__(self) -> None:
        super().__init__()
        self.section = Section.TIME
        self._buttons: dict[Section, QPushButton] = {}
        group = QButtonGroup(self)
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        for section, (title, tip) in _TITLES.items():
            button = QPushButton(title)
            button.setCheckable(True)
            button.setChecked(section is self.section)
            button.setToolTip(tip)
            button.clicked.connect(lambda _on, section=section: self.choose(section))
            group.addButton(button)
            row.addWidget(button)
            self._buttons[section] = button
        row.addStretch(1)

    def show_counts(self, counts: Mapping[Section, int]) -> None:
        """How many recommendations each section holds."""
        for section, button in self._buttons.items():
            count = counts.get(section, 0)
            button.setText(f"{_TITLES[section][0]} {count}" if count else _TITLES[section][0])

    def choose(self, section: Section) -> None:
        """Show another section."""
        self._buttons[section].setChecked(True)
        if section is not self.section:
            self.section = section
            self.chosen.emit(section)


def under(above: QWidget, below: QWidget) -> QWidget:
    """Two widgets as one, the second with all room that is left."""
    whole = QWidget()
    column = QVBoxLayout(whole)
    column.setContentsMargins(0, 0, 0, 0)
    column.addWidget(above)
    column.addWidget(below, 1)
    return whole
