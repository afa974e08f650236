"""Under the tools of the picture: which channel is shown, and which values are black and white."""

from __future__ import annotations

import dataclasses

from PySide6.QtCore import QSignalBlocker, Signal
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QToolButton, QWidget

from wendascope.desktop.charts.range_bar import RangeBar
from wendascope.desktop.widgets.theme import GRID
from wendascope.frame.contents import ImageValues
from wendascope.measure.exposure import COLOURS, DEPTH, Exposure, automatic, still_fits

_BEYOND = 1.0
"""The bar goes so many times the shown range beyond its ends, where there are values."""


class ExposureRow(QWidget):
    """Knows the exposure of each target: one that was found or set for a target stays while its steps are gone
    through.
    """

    changed = Signal()
    """The exposure of the shown target is another one."""

    def __init__(self) -> None:
        super().__init__()
        self._fixed: dict[str, Exposure] = {}
        self._target, self.kind, self._window = "", "unorm", True
        self.values: ImageValues | None = None
        """Of the shown picture, with the kind of their format; None where its lens has none."""
        self.channels = QComboBox()
        self.channels.setAccessibleName("Channel")
        self.channels.setToolTip("All colours, or one channel as grey")
        self.channels.currentIndexChanged.connect(self._channel_chosen)
        self.range = RangeBar()
        self.range.changed.connect(self._range_chosen)
        self.auto = QToolButton()
        self.auto.setText("Auto")
        self.auto.setToolTip("The range that nearly all values of this picture lie in")
        self.auto.clicked.connect(self._automatic)
        self.plain = QToolButton()
        self.plain.setText("0 to 1")
        self.plain.setToolTip("Values as they are")
        self.plain.clicked.connect(self._as_they_are)
        row = QHBoxLayout(self)
        row.setContentsMargins(GRID, 0, GRID, GRID // 2)
        row.setSpacing(GRID)
        row.addWidget(self.channels)
        row.addWidget(self.range, 1)
        row.addWidget(self.auto)
        row.addWidget(self.plain)

    @property
    def exposure(self) -> Exposure:
        """Of the shown target."""
        return self._fixed.get(self._target, Exposure())

    def forget(self) -> None:
        """Another frame is shown."""
        self._fixed.clear()

    def show_values(self, values: ImageValues | None, kind: str, target: str, window: bool) -> None:
        """Take the values of another picture, and find an exposure where its target has none that fits."""
        self.values, self.kind, self._target, self._window = values, kind, target, window
        if values is None:
            return
        found, fixed = automatic(values, kind, window), self._fixed.get(target)
        if fixed is None or (fixed.automatic and not still_fits(fixed, found)):
            self._fixed[target] = found
        self._fill()

    @property
    def is_needed(self) -> bool:
        """Whether the picture is not what a screen would show of it anyway."""
        return self.values is not None and (not self.exposure.plain or self.kind not in ("unorm", ""))

    def _fill(self) -> None:
        values, exposure = self.values, self.exposure
        if values is None:
            return
        names = list(values.channels) if len(values.channels) == 1 else [COLOURS, *values.channels]
        with QSignalBlocker(self.channels):
            self.channels.clear()
            self.channels.addItems(names)
            self.channels.setCurrentText(exposure.channel)
        self.channels.setVisible(self.kind != DEPTH)
        number = values.channels.index(exposure.channel) if exposure.channel in values.channels else 0
        shown = [number] if exposure.channel in values.channels else list(range(min(len(values.channels), 3)))
        low, high = values.ends(shown)
        span = exposure.high - exposure.low  # a few values far away are not to squeeze all others into a line
        ends = (
            min(max(low, exposure.low - _BEYOND * span), exposure.low),
            max(min(high, exposure.high + _BEYOND * span), exposure.high),
        )
        counts = sum(values.histogram(channel, *ends) for channel in shown)
        self.range.show_values(counts, ends, exposure.low, exposure.high)  # type: ignore[arg-type]

    def _set(self, exposure: Exposure) -> None:
        self._fixed[self._target] = exposure
        self._fill()
        self.changed.emit()

    def _channel_chosen(self) -> None:
        if self.values is not None:
            self._set(dataclasses.replace(self.exposure, channel=self.channels.currentText()))

    def _range_chosen(self, low: float, high: float) -> None:
        self._fixed[self._target] = dataclasses.replace(self.exposure, low=low, high=high, automatic=False)
        self.changed.emit()

    def _automatic(self) -> None:
        if self.values is not None:
            found = automatic(self.values, self.kind, self._window)
            self._set(dataclasses.replace(found, channel=self.exposure.channel))

    def _as_they_are(self) -> None:
        self._set(Exposure(automatic=False))
