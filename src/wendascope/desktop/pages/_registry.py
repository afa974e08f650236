"""Finds the pages: every module of this package that registers one."""

from __future__ import annotations

from collections.abc import Callable
from typing import Protocol

from PySide6.QtCore import QSettings
from PySide6.QtWidgets import QWidget

from wendascope.desktop.model import Workspace
from wendascope.discovery import import_all


class Page(Protocol):
    """What a page offers beside being a widget. One with `alone = True` takes the room of strip, picture and facts."""

    def figure(self) -> str:
        """The answer in a figure, for the rail."""

    def widget(self) -> QWidget:
        """The page itself."""


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
