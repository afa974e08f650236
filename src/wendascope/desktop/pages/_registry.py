"""Finds the pages: every module of this package that registers one."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QSettings
from PySide6.QtWidgets import QWidget

from wendascope.desktop.models.document import Workspace
from wendascope.discovery import import_all


class Page(QWidget):
    """A page of the rail. Everything that the window asks of it is here, and does nothing unless a page says more."""

    alone = False
    """Whether it takes the room of strip, picture and facts."""

    def figure(self) -> str:
        """The answer in a figure, for the rail; empty before there is one."""
        return ""

    def waits_for(self) -> tuple[str, str]:
        """What stands in the place of a figure once a frame is open, and what to do about it."""
        return "–", "Measure the frame with Ctrl+M to fill this page"

    def focus_search(self) -> None:
        """Put the cursor where one searches."""

    def show_recent(self, names: list[str]) -> None:
        """Offer the files that were opened last."""

    def close_page(self) -> None:
        """Before the window goes: remember, and end what was started here."""


Maker = Callable[[Workspace, QSettings], Page]
_makers: dict[str, tuple[int, Maker]] = {}


def page(title: str, order: int) -> Callable[[Maker], Maker]:
    """Register a page: its title in the rail and its place in working order."""

    def register(maker: Maker) -> Maker:
        _makers[title] = (order, maker)
        return maker

    return register


def pages() -> list[tuple[str, Maker]]:
    """(title, maker) of every page, in working order."""
    import_all("wendascope.desktop.pages")
    return [(title, maker) for title, (_, maker) in sorted(_makers.items(), key=lambda item: item[1][0])]
