"""GLSL with its cost beside each line: coloured, to be edited with undo, errors marked where they are."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from pygments.lexers.graphics import GLShaderLexer
from pygments.token import Comment, Keyword, Name, Number
from PySide6.QtCore import QRect, QSize, Qt
from PySide6.QtGui import (
    QColor,
    QFont,
    QFontDatabase,
    QPainter,
    QPaintEvent,
    QSyntaxHighlighter,
    QTextCharFormat,
    QTextCursor,
    QTextDocument,
)
from PySide6.QtWidgets import QPlainTextEdit, QWidget

from wendascope.desktop.theme import GRID, code_colours, theme

_IN_COMMENT = 1


class _Colours(QSyntaxHighlighter):
    """Colours line by line; a comment that goes on is remembered from line to line."""

    def __init__(self, document: QTextDocument) -> None:
        super().__init__(document)
        self._lexer = GLShaderLexer(stripnl=False, ensurenl=False)

    def highlightBlock(self, text: str) -> None:
        word, number = code_colours()
        start = 0
        self.setCurrentBlockState(0)
        if self.previousBlockState() == _IN_COMMENT:
            end = text.find("*/")
            start = len(text) if end < 0 else end + 2
            self.setFormat(0, start, self._format(theme().soft))
            if end < 0:
                self.setCurrentBlockState(_IN_COMMENT)
                return
        at = start
        for kind, piece in self._lexer.get_tokens(text[start:]):
            if kind in Comment and kind not in Comment.Preproc:
                self.setFormat(at, len(piece), self._format(theme().soft))
            elif kind in Keyword or kind in Name.Builtin:
                self.setFormat(at, len(piece), self._format(word, bold=True))
            elif kind in Number:
                self.setFormat(at, len(piece), self._format(number))
            at += len(piece)
        opened = text.rfind("/*", start)
        if opened >= 0 and text.find("*/", opened) < 0 and "//" not in text[start:opened]:
            self.setFormat(opened, len(text) - opened, self._format(theme().soft))
            self.setCurrentBlockState(_IN_COMMENT)

    @staticmethod
    def _format(colour: str, bold: bool = False) -> QTextCharFormat:
        made = QTextCharFormat()
        made.setForeground(QColor(colour))
        if bold:
            made.setFontWeight(QFont.Weight.DemiBold)
        return made


class _Gutter(QWidget):
    def __init__(self, editor: ShaderEditor) -> None:
        super().__init__(editor)
        self._editor = editor

    def sizeHint(self) -> QSize:
        return QSize(self._editor.gutter_width(), 0)

    def paintEvent(self, event: QPaintEvent) -> None:
        self._editor.paint_gutter(event)


class ShaderEditor(QPlainTextEdit):
    """`costs` are modelled, by line from 1; a bar of dots behind the figure shows their share of the dearest line."""

    def __init__(self) -> None:
        super().__init__()
        self._costs: Mapping[int, float] = {}
        self._errors: dict[int, str] = {}
        self._marked: set[int] = set()
        font = QFontDatabase.systemFont(QFontDatabase.SystemFont.FixedFont)
        self.setFont(font)
        self.setLineWrapMode(QPlainTextEdit.LineWrapMode.NoWrap)
        self.setAccessibleName("Source of the shader")
        self._gutter = _Gutter(self)
        self._colours = _Colours(self.document())
        self.blockCountChanged.connect(lambda _count: self._make_room())
        self.updateRequest.connect(self._scrolled)
        self._make_room()

    def show_source(self, text: str, costs: Mapping[int, float]) -> None:
        """Show another source; what was undone of the one before is forgotten."""
        self._costs, self._errors, self._marked = costs, {}, set()
        self.setPlainText(text)
        self._make_room()

    def show_errors(self, errors: dict[int, str]) -> None:
        self._errors = errors
        self._gutter.update()
        if errors:
            self.go_to(min(errors))

    def mark(self, lines: list[int]) -> None:
        """Mark the lines of a finding and go to the first."""
        self._marked = set(lines)
        self._gutter.update()
        if lines:
            self.go_to(lines[0])

    def go_to(self, line: int) -> None:
        cursor = QTextCursor(self.document().findBlockByNumber(max(line - 1, 0)))
        self.setTextCursor(cursor)
        self.centerCursor()

    # ---- the gutter -------------------------------------------------------------------------------------

    def gutter_width(self) -> int:
        digits = self.fontMetrics().horizontalAdvance("0")
        return digits * (len(str(self.blockCount())) + 8) + 2 * GRID

    def _make_room(self) -> None:
        self.setViewportMargins(self.gutter_width(), 0, 0, 0)
        self._gutter.update()

    def _scrolled(self, _rect: QRect, by: int) -> None:
        self._gutter.scroll(0, by) if by else self._gutter.update()

    def resizeEvent(self, event: Any) -> None:
        super().resizeEvent(event)
        room = self.contentsRect()
        self._gutter.setGeometry(QRect(room.left(), room.top(), self.gutter_width(), room.height()))

    def paint_gutter(self, event: QPaintEvent) -> None:
        painter = QPainter(self._gutter)
        painter.fillRect(event.rect(), QColor(theme().paper))
        painter.setFont(self.font())
        width, numbers = self._gutter.width(), self.fontMetrics().horizontalAdvance("0") * (len(str(self.blockCount())) + 1)
        most = max(self._costs.values(), default=0.0)
        block = self.firstVisibleBlock()
        top = self.blockBoundingGeometry(block).translated(self.contentOffset()).top()
        while block.isValid() and top <= event.rect().bottom():
            line, height = block.blockNumber() + 1, self.blockBoundingRect(block).height()
            cost = self._costs.get(line, 0.0)
            if cost and most:
                share = int((width - numbers - GRID) * cost / most)
                painter.fillRect(QRect(width - GRID // 2 - share, int(top) + 1, share, int(height) - 2), QColor(theme().bar))
            painter.setPen(QColor(theme().accent if line in self._marked else theme().soft))
            painter.drawText(QRect(0, int(top), numbers, int(height)), Qt.AlignmentFlag.AlignRight, str(line))
            painter.setPen(QColor(theme().ink))
            text = "error" if line in self._errors else f"{cost:,.0f}" if cost >= 0.5 else ""
            painter.drawText(QRect(numbers, int(top), width - numbers - GRID, int(height)), Qt.AlignmentFlag.AlignRight, text)
            top += height
            block = block.next()
