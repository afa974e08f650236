"""Garbage is collected in the interface thread only.

Python collects whenever and wherever enough was made, and a collection that a background thread happens to start
would end widgets there, which crashes Qt.
"""

from __future__ import annotations

import gc

from PySide6.QtCore import QObject, QTimer

_EVERY_MS = 2000


class GarbageKeeper(QObject):
    """Switches automatic collection off and collects by a timer of the thread that it was made in."""

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        gc.disable()
        self._timer = QTimer(self)
        self._timer.setInterval(_EVERY_MS)
        self._timer.timeout.connect(self.collect)
        self._timer.start()
        self._whole = 0

    def collect(self) -> None:
        """Young objects each time, which takes less than a millisecond; all of them now and then."""
        self._whole = (self._whole + 1) % 10
        gc.collect(2 if self._whole == 0 else 1)
