"""Two curves over one axis, each with a scale of its own: solid with dots, and dashed with squares."""

from __future__ import annotations

import pyqtgraph as pg
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QVBoxLayout, QWidget

from wendascope.desktop.widgets.theme import theme

Curve = tuple[str, list[float], str]
"""(what it is, values, colour)"""


class Curves(QWidget):
    def __init__(self, below: str) -> None:
        super().__init__()
        self._below = below
        self._plot = pg.PlotWidget(background=None)
        self._plot.setMinimumSize(200, 120)
        self._plot.setMenuEnabled(False)
        self._plot.hideButtons()
        self._other = pg.ViewBox()
        item = self._plot.getPlotItem()
        item.showAxis("right")
        item.scene().addItem(self._other)
        item.getAxis("right").linkToView(self._other)
        self._other.setXLink(item)
        item.vb.sigResized.connect(lambda: self._other.setGeometry(item.vb.sceneBoundingRect()))
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addWidget(self._plot)

    def show_curves(self, x: list[float], left: Curve, right: Curve) -> None:
        item = self._plot.getPlotItem()
        item.clear()
        self._other.clear()
        for side, (title, _, colour) in (("left", left), ("right", right), ("bottom", (self._below, [], theme().ink))):
            axis = item.getAxis(side)
            axis.setPen(pg.mkPen(theme().line))
            axis.setTextPen(pg.mkPen(colour))
            axis.setLabel(
                title + (", solid" if side == "left" else ", dashed" if side == "right" else ""), color=colour
            )
        item.plot(
            x, left[1], pen=pg.mkPen(left[2], width=2), symbol="o", symbolSize=6, symbolBrush=left[2], symbolPen=None
        )
        dashed = pg.mkPen(right[2], width=2, style=Qt.PenStyle.DashLine)
        self._other.addItem(
            pg.PlotDataItem(x, right[1], pen=dashed, symbol="s", symbolSize=6, symbolBrush=right[2], symbolPen=None)
        )
        item.vb.setYRange(0, max(left[1]) * 1.1)
        self._other.setYRange(0, max(max(right[1]) * 1.1, 0.01))
        item.vb.setXRange(min(x), max(x))
        self._other.setGeometry(item.vb.sceneBoundingRect())
