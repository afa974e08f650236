"""The plan as a waterfall: from today's frame time, change by change, towards the budget."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QFontMetricsF, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QWidget

from wendascope.desktop.widgets.theme import GRID, figures_font, theme
from wendascope.texts import three_digits
from wendascope.trials.plan import Plan, PlanStep

_ROW = 5 * GRID
_BAR = 11
_GPU, _CPU = "#7C93A6", "#A89A6A"
_LABEL_SHARE = 0.5
"""Of the width, for the titles."""


class Waterfall(QWidget):
    """A row for today and one for each change: what is left is full, what it saves is outlined: solid where it is
    proved together with the others, dashed where it is proved alone, dotted where it is expected. The upper bar is the
    GPU, the lower one submission. A click or the arrow keys choose a change.
    """

    chosen = Signal(str)
    """The recommendation of the chosen row."""

    def __init__(self) -> None:
        super().__init__()
        self._plan: Plan | None = None
        self._selected = ""
        self.setFont(figures_font())
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setAccessibleName("Plan, from today's frame time to the budget")

    def show_plan(self, plan: Plan | None, selected: str) -> None:
        self._plan, self._selected = plan, selected
        self.setMinimumHeight(_ROW * (len(plan.steps) + 1) + 4 * GRID if plan else 0)
        self.update()

    def row_at(self, y: float) -> int | None:
        """The step of the plan under a height; None for today's row and beyond the last."""
        row = int(y // _ROW) - 1
        return row if self._plan is not None and 0 <= row < len(self._plan.steps) else None

    # ---- painting ---------------------------------------------------------------------------------------

    def paintEvent(self, event: QPaintEvent) -> None:
        plan = self._plan
        if plan is None:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        most = max(plan.gpu_ms, plan.cpu_ms, plan.budget_ms, 1e-9) * 1.12
        left = self.width() * _LABEL_SHARE
        scale = (self.width() - left - 2 * GRID) / most
        self._row(
            painter,
            0,
            "today",
            (plan.gpu_ms, plan.gpu_ms),
            (plan.cpu_ms, plan.cpu_ms),
            left,
            scale,
            Qt.PenStyle.SolidLine,
        )
        for number, step in enumerate(plan.steps, 1):
            gpu, cpu = (step.gpu_before, step.gpu_after), (step.cpu_before, step.cpu_after)
            if step.recommendation == self._selected:
                painter.fillRect(QRectF(0, number * _ROW, self.width(), _ROW), QColor(theme().bar))
            self._row(painter, number, step.title, gpu, cpu, left, scale, _line(step))
        x = left + plan.budget_ms * scale
        bottom = _ROW * (len(plan.steps) + 1)
        painter.setPen(QPen(QColor(theme().ink), 2))
        painter.drawLine(QPointF(x, 0), QPointF(x, bottom))
        painter.drawText(QPointF(x + 4, bottom + 2 * GRID), f"budget {plan.budget_ms:.1f} ms")

    def _row(
        self, painter: QPainter, number: int, title: str, gpu: tuple[float, float], cpu: tuple[float, float],
        left: float, scale: float, line: Qt.PenStyle,
    ) -> None:  # fmt: skip
        top = number * _ROW + (_ROW - 2 * _BAR) // 2
        metrics = QFontMetricsF(self.font())
        painter.setPen(QColor(theme().ink))
        width = left - 11 * GRID
        # two lines; a word that does not fit leaves some of the first one empty
        text = metrics.elidedText(title, Qt.TextElideMode.ElideRight, 1.75 * width)
        wrapped = Qt.AlignmentFlag.AlignVCenter | Qt.TextFlag.TextWordWrap
        painter.drawText(QRectF(GRID, number * _ROW, width, _ROW), wrapped, text)
        saved = max(gpu[0] - gpu[1], 0.0), max(cpu[0] - cpu[1], 0.0)
        side = " CPU" if saved[1] > saved[0] else ""  # the total beside the bar is the GPU's
        figure = (
            f"{'~' if line == Qt.PenStyle.DotLine else ''}-{_figure(max(saved))}{side}"
            if number and max(saved) > 0
            else ""
        )
        place = QRectF(left - 10 * GRID, top, 9 * GRID, 2 * _BAR)
        painter.drawText(place, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, figure)
        for lane, (before, after), colour in ((0, gpu, _GPU), (1, cpu, _CPU)):
            y = top + lane * (_BAR + 1)
            painter.fillRect(QRectF(left, y, after * scale, _BAR), QColor(colour))
            if before > after:
                painter.setPen(QPen(QColor(colour).darker(130), 1.5, line))
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.drawRect(QRectF(left + after * scale, y + 0.5, (before - after) * scale, _BAR - 1))
        if number == 0 or saved[0] > 0:
            painter.setPen(QColor(theme().soft))
            painter.drawText(QPointF(left + gpu[0] * scale + 4, top + _BAR), f"{gpu[1]:.1f}")
        if number == 0:
            painter.drawText(QPointF(left + cpu[0] * scale + 4, top + 2 * _BAR + 1), f"{cpu[1]:.1f} CPU")

    # ---- choosing ---------------------------------------------------------------------------------------

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self._choose(self.row_at(event.position().y()))

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        row = self.row_at(event.position().y())
        step = self._plan.steps[row] if row is not None and self._plan else None
        self.setToolTip("" if step is None else f"{step.title}\n{_word(step)}")

    def keyPressEvent(self, event: QKeyEvent) -> None:
        by = {Qt.Key.Key_Up: -1, Qt.Key.Key_Down: 1}.get(Qt.Key(event.key()))
        if by is None or self._plan is None or not self._plan.steps:
            super().keyPressEvent(event)
            return
        ids = [step.recommendation for step in self._plan.steps]
        at = ids.index(self._selected) + by if self._selected in ids else 0
        self._choose(min(max(at, 0), len(ids) - 1))

    def _choose(self, row: int | None) -> None:
        if row is not None and self._plan is not None:
            self.chosen.emit(self._plan.steps[row].recommendation)


def _figure(ms: float) -> str:
    """With three digits, and no more than two after the point: there is no room for more."""
    return three_digits(ms) if ms >= 0.1 else f"{ms:.2f}"


def _line(step: PlanStep) -> Qt.PenStyle:
    if not step.proved:
        return Qt.PenStyle.DotLine
    return Qt.PenStyle.SolidLine if step.together else Qt.PenStyle.DashLine


def _word(step: PlanStep) -> str:
    if not step.proved:
        return "expected, not tried yet"
    return "proved together with the other proved changes, by its part of what they save" if step.together else "proved"
