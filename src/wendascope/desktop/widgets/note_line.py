"""A line to write a note in, on whatever is looked at; kept in the file as soon as one leaves it."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import Qt
from PySide6.QtGui import QFocusEvent, QKeyEvent
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QLineEdit, QWidget

from wendascope.desktop.models.document import Document
from wendascope.desktop.widgets.theme import GRID
from wendascope.errors import WendascopeError
from wendascope.frame.notes import Subject
from wendascope.texts import visible


class _Line(QLineEdit):
    """Escape puts back what was there."""

    before = ""

    def focusInEvent(self, event: QFocusEvent) -> None:
        self.before = self.text()
        super().focusInEvent(event)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Escape:
            self.setText(self.before)
            self.clearFocus()
        else:
            super().keyPressEvent(event)


class NoteLine(QWidget):
    """Notes on one of some subjects: what is chosen, and what it belongs to."""

    def __init__(self) -> None:
        super().__init__()
        self._document: Document | None = None
        self._subjects: Sequence[tuple[str, Subject]] = ()
        self.which = QComboBox()
        self.which.setAccessibleName("What the note is on")
        self.which.activated.connect(lambda _index: self._show())
        self.line = _Line()
        self.line.setAccessibleName("Note")
        self.line.editingFinished.connect(self._keep)
        self.line.returnPressed.connect(self.line.clearFocus)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(GRID)
        layout.addWidget(self.which)
        layout.addWidget(self.line, 1)

    def show_subjects(self, document: Document | None, subjects: Sequence[tuple[str, Subject]]) -> None:
        """Offer subjects by their names, the first one shown unless only another has a note. What is being written is
        kept on what it was written on.
        """
        if document is self._document and subjects == self._subjects:
            if not self.line.hasFocus():
                self._show()
            return
        self._keep()
        self._document, self._subjects = document, list(subjects)
        self.which.clear()
        self.which.addItems([f"Note on {visible(name)}" for name, _ in subjects])
        self.which.setVisible(len(subjects) > 1)
        noted = [i for i, (_, subject) in enumerate(subjects) if document and subject in document.notes]
        if noted:
            self.which.setCurrentIndex(noted[0])
        self.line.setEnabled(document is not None and bool(subjects))
        self._show()

    @property
    def subject(self) -> Subject | None:
        """What is written on now."""
        at = max(self.which.currentIndex(), 0)
        return self._subjects[at][1] if at < len(self._subjects) else None

    def _show(self) -> None:
        subject, document = self.subject, self._document
        self.line.setPlaceholderText("Write a note" if subject else "")
        self.line.setText(document.notes.get(subject, "") if document and subject else "")
        self.line.setToolTip("")

    def _keep(self) -> None:
        subject, document = self.subject, self._document
        if subject is None or document is None or not self.line.isModified():
            return
        self.line.setModified(False)
        try:
            document.write_note(subject, self.line.text())
        except WendascopeError as error:
            self.line.setToolTip(str(error))
            self.line.setText(document.notes.get(subject, ""))
            self.line.setPlaceholderText(str(error))
