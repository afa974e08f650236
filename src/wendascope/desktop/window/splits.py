"""How page, picture and facts share the window: each page has its own split, and it is remembered."""

from __future__ import annotations

from PySide6.QtCore import QSettings
from PySide6.QtWidgets import QSplitter

_WHOLE = 1000


class PageSplits:
    """Sets the splitters of the window when a page is shown, and keeps what the user made of them for that page."""

    def __init__(self, settings: QSettings, splitters: dict[str, QSplitter]) -> None:
        self._settings, self._splitters = settings, splitters
        self._title = ""
        for name, splitter in splitters.items():
            splitter.splitterMoved.connect(lambda _at, _index, name=name: self._moved(name))

    def show(self, title: str, shares: dict[str, float]) -> None:
        """Give the second part of each splitter its share: as it was left on this page, else as the page has it."""
        if title == self._title:
            return
        self._title = title
        for name, splitter in self._splitters.items():
            kept = self._settings.value(f"{name}_share/{title}")
            share = float(kept) if isinstance(kept, (str, float)) else shares[name]  # as texts in a file
            second = int(_WHOLE * min(max(share, 0.0), 1.0))
            splitter.setSizes([_WHOLE - second, second])

    def _moved(self, name: str) -> None:
        first, second = self._splitters[name].sizes()
        if self._title and first and second:
            self._settings.setValue(f"{name}_share/{self._title}", second / (first + second))
