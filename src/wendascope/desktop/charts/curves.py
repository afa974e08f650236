"""Two curves over one axis, each with a scale of its own: solid with dots, and dashed with squares."""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QVBoxLayout, QWidget

from wendascope.desktop.widgets.theme import theme

Curve = tuple[str, list[float], str]
"""(what it is, values, colour)"""


class Curves(QWidget):
    """Empty until there are curves: the library that draws them takes half a second to load."""

    def __init__(self, below: str) -> None:
        super().__init__()
        self._below = below
        self._made: tuple[Any, Any] | None = None
        self.setMinimumSize(200, 120)
        QVBoxLayout(self).setContentsMargins(0, 0, 0, 0)

    def _plots(self) -> tuple[Any, Any]:
        """The plot of the left scale, and the box of the right one."""
        if self._made is None:
            import pyqtgraph as pg

            plot = pg.PlotWidget(background=None)
            plot.setMenuEnabled(False)
            plot.hideButtons()
            other = pg.ViewBox()
            item = plot.getPlotItem()
            item.showAxis("right")
            item.scene().addItem(other)
            item.getAxis("right").linkToView(other)
            other.setXLink(item)
            item.vb.sigResized.connect(lambda: other.setGeometry(item.vb.sceneBoundingRect()))
            layout = self.layout()
            assert layout is not None
            layout.addWidget(plot)
            self._made = item, other
        return self._made

    def show_curves(self, x: list[float], left: Curve, right: Curve) -> None:
        import pyqtgraph as pg

        item, other = self._plots()
        item.clear()
        other.clear()
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
        other.addItem(
            pg.PlotDataItem(x, right[1], pen=dashed, symbol="s", symbolSize=6, symbolBrush=right[2], symbolPen=None)
        )
        item.vb.setYRange(0, max(left[1]) * 1.1)
        other.setYRange(0, max(max(right[1]) * 1.1, 0.01))
        item.vb.setXRange(min(x), max(x))
        other.setGeometry(item.vb.sceneBoundingRect())
