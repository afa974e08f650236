"""Code that the programmer would write: pieces to choose from, GLSL coloured, to be copied."""

from __future__ import annotations

import html

from pygments import lex
from pygments.lexers import get_lexer_by_name
from pygments.token import Comment, Keyword, Name, Number, Token
from PySide6.QtWidgets import (
    QApplication,
    QComboBox,
    QHBoxLayout,
    QPushButton,
    QTextBrowser,
    QVBoxLayout,
    QWidget,
)

from wendascope.backends.doors import Code
from wendascope.desktop.widgets.plain import Label
from wendascope.desktop.widgets.theme import GRID, code_colours, theme
from wendascope.texts import visible


def coloured(text: str, language: str) -> str:
    """The text as HTML; languages that nobody knows stay plain."""
    if not language:
        return f"<pre>{html.escape(text)}</pre>"
    word, number = code_colours()
    parts = []
    for kind, piece in lex(text, get_lexer_by_name(language, stripnl=False)):
        safe = html.escape(piece)
        if kind in Comment and kind not in Comment.Preproc:
            safe = f"<span style='color:{theme().soft}'>{safe}</span>"
        elif kind in Keyword or kind in Name.Builtin:
            safe = f"<span style='color:{word}; font-weight:600'>{safe}</span>"
        elif kind in Number or kind in Token.Literal:
            safe = f"<span style='color:{number}'>{safe}</span>"
        parts.append(safe)
    return f"<pre>{''.join(parts)}</pre>"


class CodeView(QWidget):
    """Shows pieces of code, one at a time."""

    def __init__(self) -> None:
        super().__init__()
        self._pieces: list[Code] = []
        self.note = Label()
        self.note.setWordWrap(True)
        self.piece = QComboBox()
        self.piece.setAccessibleName("Piece of code")
        self.copy = QPushButton("Copy")
        self.text = QTextBrowser()
        self.text.setLineWrapMode(QTextBrowser.LineWrapMode.NoWrap)
        self.text.setAccessibleName("Code")
        row = QHBoxLayout()
        row.addWidget(self.note, 1)
        row.addWidget(self.piece)
        row.addWidget(self.copy)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, GRID // 2, 0, 0)
        layout.setSpacing(GRID // 2)
        layout.addLayout(row)
        layout.addWidget(self.text, 1)
        self.piece.currentIndexChanged.connect(self._show)
        self.copy.clicked.connect(lambda: QApplication.clipboard().setText(self.current))
        self.show_code([], "")

    @property
    def current(self) -> str:
        row = self.piece.currentIndex()
        return self._pieces[row].text if 0 <= row < len(self._pieces) else ""

    def show_code(self, pieces: list[Code], note: str) -> None:
        kept = self.piece.currentText()
        self._pieces = pieces
        self.note.setText(note)
        self.piece.blockSignals(True)
        self.piece.clear()
        self.piece.addItems([visible(p.title) for p in pieces])
        self.piece.setCurrentIndex(max(self.piece.findText(kept), 0) if pieces else -1)
        self.piece.blockSignals(False)
        self.piece.setVisible(bool(pieces))
        self.copy.setVisible(bool(pieces))
        self._show()

    def _show(self) -> None:
        row = self.piece.currentIndex()
        piece = self._pieces[row] if 0 <= row < len(self._pieces) else None
        self.text.setHtml(coloured(piece.text, piece.language) if piece else "")
