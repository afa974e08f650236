"""GLSL with its cost beside each line: coloured, to be edited with undo, errors marked where they are."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
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
    QPen,
    QSyntaxHighlighter,
    QTextCharFormat,
    QTextCursor,
    QTextDocument,
)
from PySide6.QtWidgets import QPlainTextEdit, QWidget

from wendascope.desktop.widgets.theme import GRID, code_colours, theme

_IN_COMMENT = 1


class _Colours(QSyntaxHighlighter):
    """Colours line by line; a comment that goes on is remembered from line to line."""

    def __init__(self, document: QTextDocument) -> None:
        super().__init__(document)
        self._lexer = GLShaderLexer(stripnl=False, ensurenl=False)
        self.left_out: frozenset[int] = frozenset()
        """Lines, from 1, of which nothing is compiled."""

    def highlightBlock(self, text: str) -> None:
        if self.currentBlock().blockNumber() + 1 in self.left_out:
            self.setCurrentBlockState(0)
            self.setFormat(0, len(text), self._format(theme().faint))
            return
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


@dataclass(frozen=True)
class Outline:
    """Lines that run together, from `first` to `last`, and how often."""

    first: int
    last: int
    text: str


_OUTLINE = GRID
"""Width of one outline in the gutter; those within others stand beside them."""


class ShaderEditor(QPlainTextEdit):
    """`costs` are modelled, by line from 1; a bar of dots behind the figure shows their share of the most
    expensive line. Loops and branches are outlined at the right of the gutter, with how often they run.
    """

    def __init__(self) -> None:
        super().__init__()
        self._costs: Mapping[int, float] = {}
        self._errors: dict[int, str] = {}
        self._marked: set[int] = set()
        self._outlines: list[tuple[Outline, int]] = []
        """With the place of each, from the outermost at 0."""
        font = QFontDatabase.systemFont(QFontDatabase.SystemFont.FixedFont)
        self.setFont(font)
        self.setLineWrapMode(QPlainTextEdit.LineWrapMode.NoWrap)
        self.setAccessibleName("Source of the shader")
        self._gutter = _Gutter(self)
        self._colours = _Colours(self.document())
        self.blockCountChanged.connect(lambda _count: self._make_room())
        self.updateRequest.connect(self._scrolled)
        self._make_room()

    def show_source(
        self,
        text: str,
        costs: Mapping[int, float],
        outlines: Sequence[Outline] = (),
        left_out: frozenset[int] = frozenset(),
    ) -> None:
        """Show another source; what was undone of the one before is forgotten. `left_out` are lines of which nothing is
        compiled.
        """
        self._colours.left_out = left_out
        self._costs, self._errors, self._marked = costs, {}, set()
        self._outlines = [
            (o, sum(p is not o and p.first <= o.first and o.last <= p.last for p in outlines)) for o in outlines
        ]
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
        return digits * (len(str(self.blockCount())) + 8) + 2 * GRID + self._outline_width()

    def _outline_width(self) -> int:
        if not self._outlines:
            return 0
        words = max(self.fontMetrics().horizontalAdvance(o.text) for o, _ in self._outlines)
        return words + GRID + _OUTLINE * (max(place for _, place in self._outlines) + 1)

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
        width, numbers = (
            self._gutter.width() - self._outline_width(),
            self.fontMetrics().horizontalAdvance("0") * (len(str(self.blockCount())) + 1),
        )
        most = max(self._costs.values(), default=0.0)
        block = self.firstVisibleBlock()
        top = self.blockBoundingGeometry(block).translated(self.contentOffset()).top()
        while block.isValid() and top <= event.rect().bottom():
            line, height = block.blockNumber() + 1, self.blockBoundingRect(block).height()
            cost = self._costs.get(line, 0.0)
            if cost and most:
                share = int((width - numbers - GRID) * cost / most)
                painter.fillRect(
                    QRect(width - GRID // 2 - share, int(top) + 1, share, int(height) - 2), QColor(theme().bar)
                )
            painter.setPen(QColor(theme().accent if line in self._marked else theme().soft))
            painter.drawText(QRect(0, int(top), numbers, int(height)), Qt.AlignmentFlag.AlignRight, str(line))
            painter.setPen(QColor(theme().ink))
            text = "error" if line in self._errors else f"{cost:,.0f}" if cost >= 0.5 else ""
            painter.drawText(
                QRect(numbers, int(top), width - numbers - GRID, int(height)), Qt.AlignmentFlag.AlignRight, text
            )
            self._paint_outlines(painter, line, int(top), int(height), width)
            top += height
            block = block.next()

    def _paint_outlines(self, painter: QPainter, line: int, top: int, height: int, left: int) -> None:
        """The part of each outline that lies beside a line: a bar with a foot at both ends, and its text at the
        first line.
        """
        right = self._gutter.width() - GRID // 2
        for outline, place in self._outlines:
            if not outline.first <= line <= outline.last:
                continue
            x = right - _OUTLINE * (max(p for _, p in self._outlines) - place + 1) + _OUTLINE // 2
            painter.setPen(QPen(QColor(theme().soft), 1))
            begin, end = (
                top + (height // 2 if line == outline.first else 0),
                top + (height // 2 if line == outline.last else height),
            )
            painter.drawLine(x, begin, x, end)
            if line in (outline.first, outline.last):
                painter.drawLine(x, top + height // 2, x + _OUTLINE // 2, top + height // 2)
            if line == outline.first:
                painter.drawText(QRect(left, top, x - left - 2, height), Qt.AlignmentFlag.AlignRight, outline.text)
