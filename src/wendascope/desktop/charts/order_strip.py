"""A pass in two strips: its steps in today's order above, as the plan draws them below, joined by lines."""

from __future__ import annotations

from dataclasses import dataclass

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QVBoxLayout, QWidget

from wendascope.analysis.draws.batch_words import BatchWords, order_of_pass
from wendascope.analysis.draws.batches import Batch
from wendascope.analysis.draws.structure import Structure
from wendascope.desktop.models.document import Document
from wendascope.desktop.widgets.plain import Label
from wendascope.desktop.widgets.theme import GRID, pass_colour, theme
from wendascope.texts import plural

_STRIP = 4 * GRID
_MOST_LINES = 1500
"""Steps of a pass up to which every one has its line; beyond, only those of the chosen batch."""
_SINGLE = "#969694"
"""What the batch lens paints single draws with."""


@dataclass(frozen=True)
class _Draw:
    """One draw of the plan: its steps, where they lie in the plan's order, and its batch; -1 for single ones."""

    steps: list[int]
    first: int
    batch: int


class OrderStrip(QWidget):
    """Shows the pass of the chosen step. A click on either strip chooses a step; the batch of the chosen step is
    drawn full, the others faint.
    """

    def __init__(self) -> None:
        super().__init__()
        self._document: Document | None = None
        self._shown: tuple[Structure | None, int] = (None, -1)
        self._steps: list[int] = []
        self._place: dict[int, int] = {}
        """Step -> its place in the plan's order."""
        self._draws: list[_Draw] = []
        self._words: BatchWords | None = None
        self.note = Label()
        self.note.setWordWrap(True)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, GRID // 2, 0, 0)
        layout.addWidget(self.note)
        layout.addStretch(1)
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMinimumHeight(14 * GRID)
        self.setAccessibleName("Order of the draws, today's and the plan's")

    def show_document(self, document: Document | None) -> None:
        if document is not self._document and document is not None:
            document.selection.listen(self._follow)
        self._document = document
        self._follow()

    # ---- what is shown --------------------------------------------------------------------------------

    def _follow(self) -> None:
        document = self._document
        found = document.structure if document else None
        if document is None or found is None:
            self._shown, self._steps, self._draws = (None, -1), [], []
            self.note.setText("")
            self.update()
            return
        step = document.selection.step
        index = self._best_pass(found) if step is None else int(document.frame.passes.of_step[step])
        if (found, index) != self._shown:
            self._shown = (found, index)
            self._arrange(document, found, index)
        self._tell()
        self.update()

    @staticmethod
    def _best_pass(found: Structure) -> int:
        """The pass in which the plan saves most."""
        saved: dict[int, int] = {}
        for batch in found.batches.batches:
            saved[batch.pass_index] = saved.get(batch.pass_index, 0) + batch.saved
        return max(saved, key=lambda index: saved[index], default=0)

    def _arrange(self, document: Document, found: Structure, index: int) -> None:
        passes = document.frame.passes
        self._steps = list(range(int(passes.first[index]), int(passes.end[index]))) if len(passes) else []
        self._words = BatchWords(found.sharing, found.batches)
        order = order_of_pass(found.batches, self._steps)
        part_of = {
            step: (batch.number, number)
            for batch in found.batches.batches
            if batch.pass_index == index
            for number, part in enumerate(batch.parts)
            for step in part
        }
        # a batch whose draws stay where they are is one draw all the same: at the place of its last step
        last = {part: step for step in order if (part := part_of.get(step)) is not None}
        members: dict[tuple[int, int], list[int]] = {}
        self._draws, self._place = [], {}
        for step in order:
            part = part_of.get(step)
            if part is None:
                self._draws.append(_Draw([step], len(self._place), -1))
                self._place[step] = len(self._place)
                continue
            members.setdefault(part, []).append(step)
            if last[part] == step:
                self._draws.append(_Draw(members[part], len(self._place), part[0]))
                for member in members[part]:
                    self._place[member] = len(self._place)

    def _tell(self) -> None:
        document, found = self._document, self._shown[0]
        if document is None or found is None or not self._steps:
            return
        name = document.frame.passes.names[self._shown[1]]
        text = f"{name}: {plural(len(self._steps), 'step')} today, {len(self._draws):,} by the plan."
        batch = self._batch_of(document.selection.step)
        if batch is not None and self._words is not None:
            text += f" Batch {batch.number + 1}: {self._words.name(batch)}; {self._words.condition(batch)}."
        self.note.setText(text)

    def _batch_of(self, step: int | None) -> Batch | None:
        found = self._shown[0]
        if found is None or step is None or step not in self._place:
            return None
        number = int(found.batches.of_step[step])
        return found.batches.batches[number] if number >= 0 else None

    # ---- painting ---------------------------------------------------------------------------------------

    def _strips(self) -> tuple[QRectF, QRectF]:
        top = self.note.geometry().bottom() + GRID + self.fontMetrics().height()
        bottom = self.height() - _STRIP - GRID - self.fontMetrics().height()
        width = self.width() - 2 * GRID
        return QRectF(GRID, top, width, _STRIP), QRectF(GRID, max(bottom, top + 2 * _STRIP), width, _STRIP)

    def _x(self, place: float) -> float:
        return GRID + place * (self.width() - 2 * GRID) / max(len(self._steps), 1)

    def paintEvent(self, event: QPaintEvent) -> None:
        if not self._steps or self._document is None:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        above, below = self._strips()
        selected = self._document.selection.step
        batch = self._batch_of(selected)
        chosen = batch.number if batch else -1
        painter.setPen(QColor(theme().soft))
        painter.drawText(QPointF(GRID, above.top() - 4), "today")
        painter.drawText(QPointF(GRID, below.bottom() + self.fontMetrics().height()), "by the plan")
        for draw in self._draws:
            if draw.batch != chosen or chosen < 0:
                self._paint_draw(painter, draw, above, below, False, chosen)
        for draw in self._draws:
            if draw.batch == chosen and chosen >= 0:
                self._paint_draw(painter, draw, above, below, True, chosen)
        if selected in self._place:
            painter.setPen(QPen(QColor(theme().accent), 2))
            for strip, place in ((above, selected - self._steps[0]), (below, self._place[selected])):
                x = self._x(place + 0.5)
                painter.drawLine(QPointF(x, strip.top() - 3), QPointF(x, strip.bottom() + 3))

    def _paint_draw(
        self, painter: QPainter, draw: _Draw, above: QRectF, below: QRectF, full: bool, chosen: int
    ) -> None:
        colour = QColor(_SINGLE) if draw.batch < 0 else pass_colour(draw.batch)
        faint = QColor(colour)
        faint.setAlpha(255 if full else 40 if chosen >= 0 else 90)
        first, count = self._steps[0], len(draw.steps)
        if len(self._steps) <= _MOST_LINES or full:
            painter.setPen(QPen(faint, 1))
            for number, step in enumerate(draw.steps):
                top, bottom = self._x(step - first + 0.5), self._x(draw.first + number + 0.5)
                painter.drawLine(QPointF(top, above.bottom()), QPointF(bottom, below.top()))
        solid = QColor(colour)
        solid.setAlpha(255 if full or chosen < 0 else 130)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(solid)
        for start, end in _runs(draw.steps):
            left, right = self._x(start - first), self._x(end + 1 - first)
            painter.drawRect(QRectF(left, above.top(), right - left, above.height()))
        left, right = self._x(draw.first), self._x(draw.first + count)
        block = QRectF(left, below.top(), right - left, below.height())
        painter.drawRect(block)
        if block.width() > 3:
            painter.setPen(QPen(QColor(theme().paper), 1))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawPolyline(QPolygonF([block.topRight(), block.bottomRight()]))
        if draw.batch >= 0 and block.width() > 3 * GRID:
            painter.setPen(QColor("#1A1A1A"))
            painter.drawText(block, Qt.AlignmentFlag.AlignCenter, str(draw.batch + 1))

    # ---- pointing ---------------------------------------------------------------------------------------

    def step_at(self, x: float, y: float) -> int | None:
        """The step under a point of either strip."""
        if not self._steps:
            return None
        place = int((x - GRID) * len(self._steps) / max(self.width() - 2 * GRID, 1))
        if not 0 <= place < len(self._steps):
            return None
        above, below = self._strips()
        if above.top() <= y <= above.bottom():
            return self._steps[place]
        if below.top() <= y <= below.bottom():
            return next((step for step, at in self._place.items() if at == place), None)
        return None

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        step = self.step_at(event.position().x(), event.position().y())
        if step is None or self._document is None:
            self.setToolTip("")
            return
        batch = self._batch_of(step)
        what = f"batch {batch.number + 1}, {len(batch.steps):,} draws" if batch else "a single draw"
        self.setToolTip(f"step {step:,}, {self._document.frame.step_name(step)}: {what}")

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Left and right go along today's order, up and down along the plan's."""
        by = {
            Qt.Key.Key_Left: (False, -1),
            Qt.Key.Key_Right: (False, 1),
            Qt.Key.Key_Up: (True, -1),
            Qt.Key.Key_Down: (True, 1),
        }.get(Qt.Key(event.key()))
        step = self._document.selection.step if self._document else None
        if by is None or step not in self._place or self._document is None:
            super().keyPressEvent(event)
            return
        order = sorted(self._place, key=lambda s: self._place[s]) if by[0] else self._steps
        at = order.index(step) + by[1]
        if 0 <= at < len(order):
            self._document.selection.choose(order[at])

    def mousePressEvent(self, event: QMouseEvent) -> None:
        step = self.step_at(event.position().x(), event.position().y())
        if step is not None and self._document is not None:
            self._document.selection.choose(step)


def _runs(steps: list[int]) -> list[tuple[int, int]]:
    """(first, last) of every row of steps that follow each other."""
    found: list[tuple[int, int]] = []
    for step in sorted(steps):
        if found and step == found[-1][1] + 1:
            found[-1] = (found[-1][0], step)
        else:
            found.append((step, step))
    return found
