"""One row of a waterfall: what is left of the frame's time after a change, and what the change saves."""

from __future__ import annotations

from dataclasses import dataclass

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen

from wendascope.desktop.widgets.theme import theme
from wendascope.trials.plan import Plan, PlanStep

_BAR, _BETWEEN = 11, 2
GPU_COLOUR, CPU_COLOUR = "#7C93A6", "#A89A6A"
_LINES = {"expected": Qt.PenStyle.DotLine, "together": Qt.PenStyle.SolidLine, "alone": Qt.PenStyle.DashLine}


@dataclass(frozen=True)
class WaterfallRow:
    """Times before and after, ms, of the GPU and of submission."""

    gpu: tuple[float, float]
    cpu: tuple[float, float]
    known: str
    """`expected`, or proved `alone` or `together` with the others."""

    @property
    def words(self) -> str:
        """For a tool tip."""
        return {
            "expected": "expected, not tried yet",
            "together": "proved together with the other proved changes, by its part of what they save",
            "alone": "proved",
        }[self.known]


def today(plan: Plan) -> WaterfallRow:
    """The row that nothing is saved in."""
    return WaterfallRow((plan.gpu_ms, plan.gpu_ms), (plan.cpu_ms, plan.cpu_ms), "together")


def row_of(step: PlanStep) -> WaterfallRow:
    """The row of one step of a plan."""
    known = "expected" if not step.proved else "together" if step.together else "alone"
    return WaterfallRow((step.gpu_before, step.gpu_after), (step.cpu_before, step.cpu_after), known)


def paint_row(painter: QPainter, box: QRectF, row: WaterfallRow, plan: Plan) -> None:
    """The GPU above, submission below it, both against the budget. What is left is full; what is saved is outlined:
    solid where it is proved with the others, dashed where it is proved alone, dotted where it is expected.
    """
    most = max(plan.gpu_ms, plan.cpu_ms, plan.budget_ms, 1e-9) * 1.03
    scale = box.width() / most
    top = box.center().y() - _BAR - _BETWEEN / 2
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    for lane, ((before, after), colour) in enumerate(((row.gpu, GPU_COLOUR), (row.cpu, CPU_COLOUR))):
        y = top + lane * (_BAR + _BETWEEN)
        painter.fillRect(QRectF(box.left(), y, after * scale, _BAR), QColor(colour))
        if before > after:
            painter.setPen(QPen(QColor(theme().ink), 1.2, _LINES[row.known]))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(QRectF(box.left() + after * scale, y + 0.5, (before - after) * scale, _BAR - 1))
    x = box.left() + plan.budget_ms * scale
    painter.setPen(QPen(QColor(theme().ink), 1.5))
    painter.drawLine(QPointF(x, box.top()), QPointF(x, box.bottom()))
    painter.restore()
