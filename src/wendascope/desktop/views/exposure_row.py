"""Under the tools of the picture: which channel is shown, and which values are black and white."""

from __future__ import annotations

import dataclasses

from PySide6.QtCore import QSignalBlocker, Signal
from PySide6.QtGui import QShowEvent
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QToolButton, QWidget

from wendascope.desktop.charts.range_bar import RangeBar
from wendascope.desktop.widgets.theme import GRID
from wendascope.measure.exposure import COLOURS, Exposure, Seen


class ExposureRow(QWidget):
    """Knows the exposure of each target: one that was found or set for a target stays while its steps are gone
    through.
    """

    changed = Signal()
    """The exposure of the shown target is another one."""

    def __init__(self) -> None:
        super().__init__()
        self._fixed: dict[str, Exposure] = {}
        self._target = ""
        self.seen: Seen | None = None
        """The shown picture; None where its lens has no values."""
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

    def fixed(self, target: str) -> Exposure | None:
        """What a target is seen with by now."""
        return self._fixed.get(target)

    def forget(self) -> None:
        """Another frame is shown."""
        self._fixed.clear()

    def show_seen(self, seen: Seen | None, target: str) -> None:
        """Take another picture, with the exposure that it was found with."""
        self.seen, self._target = seen, target
        if seen is not None:
            self._fixed[target] = seen.exposure
            self._fill()

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        self._fill()

    def _fill(self) -> None:
        seen = self.seen
        if seen is None or self.isHidden():
            return
        channels = seen.values.channels
        with QSignalBlocker(self.channels):
            self.channels.clear()
            self.channels.addItems(list(channels) if len(channels) == 1 else [COLOURS, *channels])
            self.channels.setCurrentText(seen.exposure.channel)
        self.channels.setVisible(len(channels) > 1)
        counts, ends = seen.spread
        self.range.show_values(counts, ends, seen.exposure.low, seen.exposure.high)

    def _set(self, exposure: Exposure, fill: bool = True) -> None:
        if self.seen is not None:
            self._fixed[self._target] = exposure
            self.seen = dataclasses.replace(self.seen, exposure=exposure)
            if fill:
                self._fill()
            self.changed.emit()

    def _channel_chosen(self) -> None:
        self._set(dataclasses.replace(self.exposure, channel=self.channels.currentText()))

    def _range_chosen(self, low: float, high: float) -> None:
        # the bar stays as it is under the hand that drags
        self._set(dataclasses.replace(self.exposure, low=low, high=high, automatic=False), fill=False)

    def _automatic(self) -> None:
        if self.seen is not None:
            self._set(dataclasses.replace(self.seen.found, channel=self.exposure.channel))

    def _as_they_are(self) -> None:
        self._set(Exposure(automatic=False))
