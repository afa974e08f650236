"""Memory as areas: a rectangle for each object, as large as its bytes, within one for its group."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from PySide6.QtCore import QEvent, QRectF, QSize, Qt, Signal
from PySide6.QtGui import (
    QColor,
    QHelpEvent,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QPixmap,
    QResizeEvent,
)
from PySide6.QtWidgets import QSizePolicy, QToolTip, QWidget

from wendascope.analysis.memory.sums import MemoryGroup
from wendascope.analysis.memory.treemap_layout import squarified
from wendascope.desktop.widgets.theme import GRID, figures_font, pass_colour, theme
from wendascope.frame.memory import MemoryItem
from wendascope.texts import memory, plural

_TITLE = 2 * GRID + 2
"""Height of a group's title."""
_LEAST_AREA = 40.0
"""Square pixels of an object of its own; smaller ones of a group are one rectangle."""
_PALE = 90
"""Opacity of what the frame does not use, of 255."""


@dataclass(frozen=True)
class _Cell:
    box: QRectF
    items: tuple[MemoryItem, ...]
    """One object, or all that are too small."""
    colour: int


class Treemap(QWidget):
    """A click or the arrow keys choose an object; what the frame does not use is pale."""

    chosen = Signal(object)
    """The chosen object."""

    def __init__(self) -> None:
        super().__init__()
        self._groups: list[MemoryGroup] = []
        self._cells: list[_Cell] = []
        self._titles: list[tuple[QRectF, str]] = []
        self._picture: QPixmap | None = None
        self.current: MemoryItem | None = None
        self.setFont(figures_font(0.9))
        self.setMinimumHeight(14 * GRID)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Memory by size")

    def sizeHint(self) -> QSize:
        return QSize(80 * GRID, 26 * GRID)

    def show_groups(self, groups: Sequence[MemoryGroup]) -> None:
        """Largest group first, and in each the largest object."""
        self._groups = [group for group in groups if group.bytes]
        self._lay_out()
        self.update()

    def choose(self, item: MemoryItem | None) -> None:
        """Mark an object, without telling anybody."""
        self.current = item
        self.update()

    # ---- layout ----------------------------------------------------------------------------------------

    def _lay_out(self) -> None:
        self._cells, self._titles, self._picture = [], [], None
        boxes = squarified([g.bytes for g in self._groups], 0.0, 0.0, float(self.width()), float(self.height()))
        for number, (group, (x, y, width, height)) in enumerate(zip(self._groups, boxes, strict=True)):
            box = QRectF(x, y, width, height).adjusted(1, 1, -1, -1)
            if box.height() > 2 * _TITLE and box.width() > 5 * GRID:
                title = QRectF(box.left(), box.top(), box.width(), _TITLE)
                self._titles.append((title, f"{group.name}  {memory(group.bytes)}"))
                box.setTop(title.bottom())
            self._lay_out_group(group, box, number)

    def _lay_out_group(self, group: MemoryGroup, box: QRectF, colour: int) -> None:
        if box.width() <= 0 or box.height() <= 0:
            return
        items = [item for item in group.items if item.size]
        least = _LEAST_AREA / max(box.width() * box.height(), 1e-9) * group.bytes
        large = [item for item in items if item.size >= least]
        small = tuple(items[len(large) :])
        sizes = [float(item.size) for item in large] + ([float(sum(i.size for i in small))] if small else [])
        parts: list[tuple[MemoryItem, ...]] = [(item,) for item in large] + ([small] if small else [])
        places = squarified(sizes, box.left(), box.top(), box.width(), box.height())
        for place, part in zip(places, parts, strict=True):
            self._cells.append(_Cell(QRectF(*place), part, colour))

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._lay_out()

    def changeEvent(self, event: QEvent) -> None:
        super().changeEvent(event)
        if event.type() in (QEvent.Type.PaletteChange, QEvent.Type.StyleChange):
            self._picture = None

    # ---- painting --------------------------------------------------------------------------------------

    def paintEvent(self, event: QPaintEvent) -> None:
        if self._picture is None:
            self._picture = self._painted()
        painter = QPainter(self)
        painter.drawPixmap(0, 0, self._picture)
        cell = next((c for c in self._cells if self.current in c.items), None) if self.current else None
        if cell is not None:
            painter.setPen(QPen(QColor(theme().accent), 3))
            painter.drawRect(cell.box.adjusted(1.5, 1.5, -1.5, -1.5))

    def _painted(self) -> QPixmap:
        ratio, t = self.devicePixelRatioF(), theme()
        picture = QPixmap(int(self.width() * ratio), int(self.height() * ratio))
        picture.setDevicePixelRatio(ratio)
        picture.fill(QColor(t.paper))
        painter = QPainter(picture)
        painter.setFont(self.font())
        for cell in self._cells:
            colour = pass_colour(cell.colour)
            if not any(item.used or not item.followed for item in cell.items):
                colour.setAlpha(_PALE)
            painter.fillRect(cell.box.adjusted(0, 0, -1, -1), colour)
            painter.setPen(QColor(t.ink if colour.alpha() < 255 else "#22303C"))
            self._write(painter, cell)
        painter.setPen(QColor(t.ink))
        for box, text in self._titles:
            self._fit(painter, box, text)
        painter.end()
        return picture

    def _write(self, painter: QPainter, cell: _Cell) -> None:
        if cell.box.width() < 6 * GRID or cell.box.height() < 2 * GRID:
            return
        size = sum(item.size for item in cell.items)
        text = cell.items[0].label or cell.items[0].title if len(cell.items) == 1 else f"{len(cell.items):,} smaller"
        box = cell.box.adjusted(4, 1, -4, -1)
        self._fit(painter, QRectF(box.left(), box.top(), box.width(), 2 * GRID), text)
        if box.height() > 4 * GRID:
            self._fit(painter, QRectF(box.left(), box.top() + 2 * GRID, box.width(), 2 * GRID), memory(size))

    def _fit(self, painter: QPainter, box: QRectF, text: str) -> None:
        shown = painter.fontMetrics().elidedText(text, Qt.TextElideMode.ElideRight, int(box.width()))
        painter.drawText(box, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, shown)

    # ---- choosing --------------------------------------------------------------------------------------

    def items_at(self, x: float, y: float) -> tuple[MemoryItem, ...]:
        """The object at a place; several where they are too small to be told apart."""
        return next((c.items for c in self._cells if c.box.contains(x, y)), ())

    def mousePressEvent(self, event: QMouseEvent) -> None:
        items = self.items_at(event.position().x(), event.position().y())
        if items:
            self._choose(items[0])

    def _choose(self, item: MemoryItem) -> None:
        self.choose(item)
        self.chosen.emit(item)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        ways = {Qt.Key.Key_Left: (-1, 0), Qt.Key.Key_Right: (1, 0), Qt.Key.Key_Up: (0, -1), Qt.Key.Key_Down: (0, 1)}
        way = ways.get(Qt.Key(event.key()))
        if way is None or not self._cells:
            super().keyPressEvent(event)
            return
        now = next((c for c in self._cells if self.current in c.items), None) if self.current else None
        if now is None:
            self._choose(self._cells[0].items[0])
            return
        middle = now.box.center()
        # just over the edge, at the height of the middle
        x = middle.x() + way[0] * (now.box.width() / 2 + 3)
        y = middle.y() + way[1] * (now.box.height() / 2 + 3)
        items = self.items_at(x, y) or self.items_at(x, y + way[1] * _TITLE)
        if items:
            self._choose(items[0])

    def event(self, event: QEvent) -> bool:
        if event.type() == QEvent.Type.ToolTip and isinstance(event, QHelpEvent):
            items = self.items_at(event.pos().x(), event.pos().y())
            QToolTip.showText(event.globalPos(), _told(items), self)
            return True
        return super().event(event)


def _told(items: Sequence[MemoryItem]) -> str:
    if not items:
        return ""
    if len(items) > 1:
        return f"{plural(len(items), 'small object')}, {memory(sum(item.size for item in items))} together"
    item = items[0]
    what = " ".join(part for part in (item.dimensions, item.format) if part)
    use = "" if item.used else "\nnot used in this frame" if item.followed else "\nnot every use is followed"
    return f"{item.title}\n{item.kind.value} {what}\n{memory(item.size)}: {item.how}{use}"
