"""The head of a page: the question it answers, the answer in one sentence, and the evidence."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QLabel

from wendascope.desktop.theme import figures_font


def answer_labels(text: str) -> tuple[QLabel, QLabel, QLabel]:
    """Labels for question, answer and evidence; what they say can be selected and copied."""
    question, answer, evidence = QLabel(text), QLabel(), QLabel()
    question.setObjectName("question")
    answer.setFont(figures_font(1.35))
    for label in (answer, evidence):
        label.setWordWrap(True)
        label.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
    return question, answer, evidence
