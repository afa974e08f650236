"""What pages and views are laid out of: question, answer and evidence; a row of controls over a body; details to
read.
"""

from __future__ import annotations

from collections.abc import Sequence
from html import escape

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QHBoxLayout, QLabel, QVBoxLayout, QWidget

from wendascope.desktop.widgets.plain import Label
from wendascope.desktop.widgets.theme import GRID, figures_font, theme


def answer_labels(text: str) -> tuple[QLabel, QLabel, QLabel]:
    """Labels for question, answer and evidence; what they say can be selected and copied."""
    question, answer, evidence = Label(text), Label(), Label()
    question.setObjectName("question")
    answer.setFont(figures_font(1.35))
    for label in (answer, evidence):
        label.setWordWrap(True)
        label.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
    return question, answer, evidence


def details_label() -> QLabel:
    """Rich text below a table, to be selected and copied."""
    label = Label()
    label.setWordWrap(True)
    label.setTextFormat(Qt.TextFormat.RichText)
    label.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
    label.setAlignment(Qt.AlignmentFlag.AlignTop)
    label.setContentsMargins(GRID, GRID // 2, GRID, 0)
    return label


def labelled(rows: Sequence[tuple[str, str]]) -> str:
    """Facts as rich text: (label, text) in two columns. Texts are shown as they are, whatever marks they hold; rows
    without a text are left out.
    """
    soft = theme().soft
    lines = [
        f'<tr><td style="color: {soft}; padding-right: 12px">{escape(label)}</td><td>{escape(text)}</td></tr>'
        for label, text in rows
        if text
    ]
    return f"<table cellspacing='2'>{''.join(lines)}</table>"


def lay_out(view: QWidget, controls: list[QWidget], note: QLabel, body: QWidget, wide: QWidget | None = None) -> None:
    """Controls in a row, a note under them, and the body in what room is left. `wide` takes what room the row has
    left.
    """
    note.setWordWrap(True)
    note.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
    row = QHBoxLayout()
    for control in controls:
        row.addWidget(control, 1 if control is wide else 0)
    if wide is None:
        row.addStretch(1)
    layout = QVBoxLayout(view)
    layout.setContentsMargins(0, GRID // 2, 0, 0)
    layout.setSpacing(GRID // 2)
    layout.addLayout(row)
    layout.addWidget(note)
    layout.addWidget(body, 1)
