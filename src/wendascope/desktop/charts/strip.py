"""The frame strip: a ruler with the budget, passes and their steps to scale, and the CPU lane below."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QEvent, QPointF, QRectF, QSize, Qt
from PySide6.QtGui import (
    QBrush,
    QColor,
    QFontMetricsF,
    QHelpEvent,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QPixmap,
    QResizeEvent,
    QWheelEvent,
)
from PySide6.QtWidgets import QSizePolicy, QToolTip, QWidget

from wendascope.desktop.models.document import Document, Workspace
from wendascope.desktop.models.strip_layout import (
    StripTimes,
    View,
    cpu_columns,
    group_at,
    ruler_ticks,
    step_at,
    strip_times,
)
from wendascope.desktop.models.tree import FrameTree
from wendascope.desktop.widgets.theme import figures_font, group_colour, theme
from wendascope.frame.cpu import CpuLane
from wendascope.texts import plural

_MARGIN = 16
_RULER, _PASSES, _STEPS, _CPU, _GAP = 22, 28, 20, 22, 4
_LABEL = 40


class FrameStrip(QWidget):
    """Click chooses, the wheel zooms, dragging moves, a double-click fills the strip with a pass; keys do the same."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self._workspace = workspace
        self._document: Document | None = None
        self._by = workspace.grouping
        self._times: StripTimes | None = None
        self._bars: tuple[StripTimes, object, QPixmap] | None = None
        """Of the steps, with what they were painted for."""
        self._lane: CpuLane | None = None
        self._view = View(0, 1, 1)
        self._pressed: QPointF | None = None
        self._dragged = False
        self.setMinimumHeight(_RULER + _PASSES + _STEPS + _CPU + 5 * _GAP)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Frame strip")
        self.setMouseTracking(True)
        workspace.listen(self._refresh)

    def sizeHint(self) -> QSize:
        return QSize(800, self.minimumHeight())

    # ---- what it shows ----------------------------------------------------------------------------

    def _refresh(self) -> None:
        document = self._workspace.current
        if document is not self._document or self._workspace.grouping != self._by:
            if document is not self._document and document is not None:
                document.listen(self._measured)
                document.selection.listen(self.update)
            self._document, self._by = document, self._workspace.grouping
            self._measured()
        else:
            self.show_all()  # the budget may have changed, and with it how much time the strip covers

    def _measured(self) -> None:
        document = self._document
        if document is None:
            self._times = self._lane = None
        else:
            self._times = strip_times(FrameTree(document.frame, document.survey, self._by))
            self._lane = document.frame.cpu_lane
        self.show_all()

    @property
    def _full(self) -> float:
        """Milliseconds that the whole strip covers: the frame, its CPU time and the budget."""
        if self._times is None:
            return 1.0
        if not self._times.measured:
            return self._times.total
        assert self._lane is not None
        return 1.02 * max(self._times.total, self._lane.frame_ms, self._workspace.budget_ms)

    @property
    def _inner(self) -> float:
        return max(self.width() - 2 * _MARGIN - _LABEL, 1)

    def show_all(self) -> None:
        self._view = View(0, self._full, self._inner)
        self.update()

    def show_group(self, index: int) -> None:
        """Fill the strip with one pass or other group."""
        if self._times is not None:
            self._view = View(float(self._times.group_start[index]), float(self._times.group_end[index]), self._inner)
            self.update()

    def resizeEvent(self, event: QResizeEvent) -> None:
        self._view = View(self._view.start, self._view.end, self._inner)

    # ---- painting -----------------------------------------------------------------------------------

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setFont(figures_font(0.9))
        t = theme()
        if self._document is None or self._times is None or len(self._times.group_end) == 0:
            painter.setPen(QColor(t.soft))
            painter.drawText(
                self.rect(),
                Qt.AlignmentFlag.AlignCenter,
                "No frame is open" if self._document is None else "This frame has no steps",
            )
            return
        if self.hasFocus():
            painter.setPen(QPen(QColor(t.accent), 1))
            painter.drawRect(self.rect().adjusted(0, 0, -1, -1))
        painter.translate(_MARGIN + _LABEL, 0)
        self._paint_ruler(painter)
        painter.save()
        painter.setClipRect(QRectF(0, 0, self._inner, self.height()))
        self._paint_groups(painter)
        self._paint_steps(painter)
        self._paint_cpu(painter)
        self._paint_budget(painter)
        painter.restore()
        self._paint_labels(painter)

    def _paint_labels(self, painter: QPainter) -> None:
        painter.setPen(QColor(theme().soft))
        for text, y, height in (
            ("GPU", _RULER, _PASSES),
            ("steps", _RULER + _PASSES + _GAP, _STEPS),
            ("CPU", _RULER + _PASSES + _STEPS + 2 * _GAP, _CPU),
        ):
            painter.drawText(
                QRectF(-_LABEL - 8, y, _LABEL, height),
                Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
                text,
            )

    def _paint_ruler(self, painter: QPainter) -> None:
        assert self._times is not None
        t = theme()
        if not self._times.measured:
            painter.setPen(QColor(t.soft))
            painter.drawText(
                QRectF(0, 0, self._inner, _RULER),
                Qt.AlignmentFlag.AlignVCenter,
                "Not measured yet: all draws have equal width. Measure with Ctrl+M.",
            )
            return
        metrics = QFontMetricsF(painter.font())
        ticks = ruler_ticks(self._view)
        digits = max(0, min(4, int(np.ceil(-np.log10(max(ticks[1] - ticks[0], 1e-6)))))) if len(ticks) > 1 else 1
        for tick in ticks:
            x = self._view.x(tick)
            painter.setPen(QColor(t.line))
            painter.drawLine(QPointF(x, _RULER - 6), QPointF(x, _RULER - 1))
            text = f"{tick:.{digits}f}" + (" ms" if tick == ticks[-1] else "")
            if x + metrics.horizontalAdvance(text) < self._inner + _MARGIN:
                painter.setPen(QColor(t.soft))
                painter.drawText(QPointF(x + 3, _RULER - 8), text)

    def _paint_groups(self, painter: QPainter) -> None:
        assert self._document is not None and self._times is not None
        t, metrics = theme(), QFontMetricsF(painter.font())
        chosen = self._chosen_group()
        for i, (node, start, end) in enumerate(
            zip(self._times.groups, self._times.group_start.tolist(), self._times.group_end.tolist(), strict=True)
        ):
            x, right = self._view.x(start), self._view.x(end)
            if right < 0 or x > self._inner:
                continue
            box = QRectF(x, _RULER, max(right - x - 1, 1), _PASSES)
            painter.fillRect(box, group_colour(node))
            visible = box.intersected(QRectF(0, _RULER, self._inner, _PASSES))
            if visible.width() > 24:
                painter.setPen(QColor("#12161A"))
                text = metrics.elidedText(node.label, Qt.TextElideMode.ElideRight, visible.width() - 8)
                painter.drawText(visible.adjusted(4, 0, -4, 0), Qt.AlignmentFlag.AlignVCenter, text)
            if i == chosen:
                painter.setPen(QPen(QColor(t.accent), 3))
                painter.drawRect(box.adjusted(1.5, 1.5, -1.5, -1.5))

    def _paint_steps(self, painter: QPainter) -> None:
        """The bars, and the chosen one. Bars are painted once as long as they stay: there can be one a pixel."""
        assert self._document is not None and self._times is not None
        top = _RULER + _PASSES + _GAP
        times, view = self._times, self._view
        key = view.start, view.end, self.width(), self.devicePixelRatioF(), theme()
        if self._bars is None or self._bars[0] is not times or self._bars[1] != key:
            ratio = self.devicePixelRatioF()
            bars = QPixmap(int(np.ceil((self._inner + 1) * ratio)), int(np.ceil(_STEPS * ratio)))
            bars.setDevicePixelRatio(ratio)
            bars.fill(Qt.GlobalColor.transparent)
            with QPainter(bars) as inner:
                self._paint_bars(inner)
            self._bars = times, key, bars
        painter.drawPixmap(QPointF(0, top), self._bars[2])
        chosen = self._document.selection.step
        if chosen is not None:
            x, end = view.x(float(times.step_start[chosen])), view.x(float(times.step_end[chosen]))
            painter.fillRect(QRectF(x - 1, top - 2, max(end - x, 1) + 2, _STEPS + 4), QColor(theme().accent))

    def _paint_bars(self, painter: QPainter) -> None:
        """One bar a step where they are wide enough to tell apart; alternate shades so that neighbours differ."""
        assert self._times is not None
        times, view = self._times, self._view
        ends = times.step_end[times.order]
        first = int(np.searchsorted(ends, view.start, side="left"))
        shown = times.order[first : int(np.searchsorted(ends, view.end, side="left")) + 1]
        left = view.scale * (times.step_start[shown] - view.start)
        right = view.scale * (times.step_end[shown] - view.start)
        colours = [(c, c.lighter(118)) for c in map(group_colour, times.groups)]
        drawn_to = -1.0
        # steps that end within the pixel of one before are part of its bar
        for at in np.flatnonzero(np.diff(np.floor(right), prepend=-2.0) > 0).tolist():
            x, end = max(float(left[at]), drawn_to), float(right[at])
            colour = colours[int(times.group_of[shown[at]])][(first + at) % 2 == 0]
            painter.fillRect(QRectF(x, 0, max(end - x, 1), _STEPS), colour)
            drawn_to = end

    def _paint_cpu(self, painter: QPainter) -> None:
        assert self._lane is not None and self._times is not None
        top = _RULER + _PASSES + _STEPS + 2 * _GAP
        t = theme()
        painter.fillRect(QRectF(0, top, self._inner, _CPU), QColor(t.raised))
        if not self._times.measured:
            painter.setPen(QColor(t.soft))
            painter.drawText(
                QRectF(4, top, self._inner, _CPU),
                Qt.AlignmentFlag.AlignVCenter,
                "shown to scale once the frame is measured",
            )
            return
        calls, waits = cpu_columns(self._lane, self._view)
        hatch = QBrush(QColor(t.soft), Qt.BrushStyle.BDiagPattern)
        ink = QColor(t.ink)
        start: int | None = None
        for x in range(len(calls) + 1):
            waiting = x < len(calls) and waits[x] >= 0.5
            if waiting and start is None:
                start = x
            elif not waiting and start is not None:
                painter.fillRect(QRectF(start, top, x - start, _CPU), hatch)
                start = None
            if x < len(calls) and not waiting and calls[x] > 0.005:
                height = max(1.0, float(calls[x]) * _CPU)
                painter.fillRect(QRectF(x, top + _CPU - height, 1, height), ink)

    def _paint_budget(self, painter: QPainter) -> None:
        assert self._times is not None
        if not self._times.measured:
            return
        x = self._view.x(self._workspace.budget_ms)
        t = theme()
        painter.setPen(QPen(QColor(t.ink), 2, Qt.PenStyle.DashLine))
        painter.drawLine(QPointF(x, 2), QPointF(x, self.height() - _GAP))
        text = f"budget {self._workspace.budget_ms:g}"
        width = QFontMetricsF(painter.font()).horizontalAdvance(text)
        if 0 <= x <= self._inner - width - 8:
            box = QRectF(x + 3, 0, width + 6, _RULER - 4)
            painter.fillRect(box, QColor(t.paper))
            painter.setPen(QColor(t.ink))
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, text)

    def _chosen_group(self) -> int | None:
        assert self._document is not None and self._times is not None
        step = self._document.selection.step
        return None if step is None else int(self._times.group_of[step])

    # ---- hands ---------------------------------------------------------------------------------------

    def _time_at(self, x: float) -> float:
        return self._view.ms(x - _MARGIN - _LABEL)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self._pressed, self._dragged = event.position(), False

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._pressed is None or not event.buttons():
            return
        moved = event.position().x() - self._pressed.x()
        if self._dragged or abs(moved) > 4:
            self._dragged = True
            self._view = self._view.moved(moved, self._full)
            self._pressed = event.position()
            self.update()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self._pressed is not None and not self._dragged and self._document is not None and self._times is not None:
            ms = self._time_at(event.position().x())
            if event.position().y() < _RULER + _PASSES:
                index = group_at(self._times, ms)
                if index is not None:
                    self._document.selection.choose_row(self._times.groups[index])
            else:
                step = step_at(self._times, ms)
                if step is not None:
                    self._document.selection.choose(step)
        self._pressed = None

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        if self._times is None:
            return
        index = group_at(self._times, self._time_at(event.position().x()))
        if index is None:
            self.show_all()
        else:
            self.show_group(index)

    def wheelEvent(self, event: QWheelEvent) -> None:
        factor = 1.25 ** (event.angleDelta().y() / 120)
        self._view = self._view.zoomed(event.position().x() - _MARGIN - _LABEL, factor, self._full)
        self.update()
        event.accept()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Left and right move the view, plus and minus zoom about the chosen step, Return fills the strip with the
        group of the chosen step, Home shows all.
        """
        if self._times is None or self._document is None:
            return
        step, chosen = self._document.selection.step, self._chosen_group()
        about = self._inner / 2 if step is None else self._view.x(float(self._times.step_start[step]))
        match event.key():
            case Qt.Key.Key_Left | Qt.Key.Key_Right:
                by = self._inner / 10 * (1 if event.key() == Qt.Key.Key_Left else -1)
                self._view = self._view.moved(by, self._full)
            case Qt.Key.Key_Plus | Qt.Key.Key_Equal | Qt.Key.Key_Minus:
                factor = 1 / 1.25 if event.key() == Qt.Key.Key_Minus else 1.25
                self._view = self._view.zoomed(min(max(about, 0.0), self._inner), factor, self._full)
            case Qt.Key.Key_Return | Qt.Key.Key_Enter if chosen is not None:
                self.show_group(chosen)
            case Qt.Key.Key_Home:
                self.show_all()
            case _:
                super().keyPressEvent(event)
                return
        self.update()

    def event(self, event: QEvent) -> bool:
        if event.type() == QEvent.Type.ToolTip and isinstance(event, QHelpEvent):
            text = self._tip(event.pos().x(), event.pos().y())
            if text:
                QToolTip.showText(event.globalPos(), text, self)
            else:
                QToolTip.hideText()
            return True
        return super().event(event)

    def _wait_tip(self, ms: float) -> str:
        """The wait under the pointer, and what it waits for."""
        if self._document is None or self._lane is None:
            return ""
        call = int(np.searchsorted(self._lane.begin, ms, side="right")) - 1
        if call < 0 or not self._lane.waits[call] or ms > self._lane.end[call]:
            return ""
        frame = self._document.frame
        command = frame.call_name(call)
        return f"{command}, call {call:,}\nwaited {self._lane.duration[call]:.2f} ms for {frame.waited_for(call)}"

    def _tip(self, x: float, y: float) -> str:
        if self._document is None or self._times is None:
            return ""
        frame, survey = self._document.frame, self._document.survey
        ms = self._time_at(x)
        if y < _RULER + _PASSES:
            index = group_at(self._times, ms)
            if index is None:
                return ""
            node = self._times.groups[index]
            wide = float(self._times.group_end[index] - self._times.group_start[index])
            how = "timed whole (measured)" if node.kind == "pass" else "its part of the times of its passes"
            return f"{node.label}\n{plural(len(node.steps), 'step')}" + (f"\n{wide:.3f} ms, {how}" if survey else "")
        if y > _RULER + _PASSES + _STEPS + 1.5 * _GAP:
            return self._wait_tip(ms) or (
                "CPU time of the recorded calls in the program.\nBars: in calls. Hatched: waiting. Empty: the program's"
                " own work."
                if survey
                else ""
            )
        step = step_at(self._times, ms)
        if step is None:
            return ""
        time = f"\n{survey.steps.ms[step]:.3f} ms, alone (measured)" if survey else ""
        return f"step {step:,} in {frame.passes.names[int(frame.passes.of_step[step])]}{time}"
