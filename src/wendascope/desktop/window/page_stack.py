"""The pages of the window, each made when it is first needed."""

from __future__ import annotations

import importlib
from collections.abc import Callable, Iterable, Sequence

from PySide6.QtCore import QTimer, Signal
from PySide6.QtWidgets import QWidget

from wendascope.desktop.pages import Page
from wendascope.desktop.widgets.current_stack import CurrentStack

_REST_MS, _PAUSE_MS = 800, 20
"""After the window came or a file was opened, which has the picture to show first, and between two pages that are made
ahead.
"""


class PageStack(CurrentStack):
    """One page at a time is shown. A page takes up to a tenth of a second to make: those that nobody has asked for yet
    follow one by one once the window is there, after the modules that they are made of.
    """

    made = Signal(str)
    """The title of a page that is there from now on."""

    def __init__(self, makers: Sequence[tuple[str, Callable[[], Page]]], modules: Iterable[str] = ()) -> None:
        super().__init__()
        self._modules = iter(modules)
        self._makers = dict(makers)
        self._pages: dict[str, Page] = {}
        for _ in self._makers:
            self.addWidget(QWidget())
        self._ahead = QTimer(self)
        self._ahead.timeout.connect(self._make_next)

    @property
    def titles(self) -> list[str]:
        """In the order of the rail."""
        return list(self._makers)

    @property
    def pages(self) -> list[Page]:
        """Those that are there."""
        return list(self._pages.values())

    def page(self, title: str) -> Page:
        """A page by its title; it is made now where it is not there."""
        if title not in self._pages:
            page = self._makers[title]()
            self._pages[title] = page
            index = self.titles.index(title)
            place, shown = self.widget(index), self.currentIndex() == index
            assert place is not None
            self.insertWidget(index, page)
            self.removeWidget(place)
            place.deleteLater()
            if shown:
                super().setCurrentIndex(index)
            self.made.emit(title)
        return self._pages[title]

    def known(self, title: str) -> Page | None:
        """A page that is there; None for one that was not made yet."""
        return self._pages.get(title)

    def current(self) -> Page:
        """The page that is shown."""
        return self.page(self.titles[self.currentIndex()])

    def setCurrentIndex(self, index: int) -> None:
        """Show a page by its place."""
        self.page(self.titles[index])
        super().setCurrentIndex(index)

    def make_ahead(self) -> None:
        """Make the other pages one by one, after a rest."""
        self._ahead.start(_REST_MS)

    def stop(self) -> None:
        """Make no more."""
        self._ahead.stop()

    def _make_next(self) -> None:
        self._ahead.start(_PAUSE_MS)
        module = next(self._modules, None)
        if module is not None:
            importlib.import_module(module)
            return
        title = next((title for title in self._makers if title not in self._pages), None)
        if title is None:
            self._ahead.stop()
        else:
            self.page(title)
