"""Finds the pages: every module of this package that registers one."""

from __future__ import annotations

import functools
import importlib
import importlib.util
import pkgutil
import re
from collections.abc import Callable, Iterator
from pathlib import Path

from PySide6.QtCore import QSettings
from PySide6.QtWidgets import QWidget

from wendascope.desktop.models.document import Workspace

UNKNOWN = "–"
"""In the place of a figure that comes with measuring."""


class Page(QWidget):
    """A page of the rail. Everything that the window asks of it is here, and does nothing unless a page says more."""

    guide = "index"
    """The page of the guide that belongs to it."""
    alone = False
    """Whether it takes the room of strip, picture and facts."""
    picture_share = 0.4
    """Of the width, for the picture and what is under it, until the user sets another."""
    under_share = 0.44
    """Of the height there, for what is under the picture."""

    def beside(self) -> QWidget | None:
        """What stands under the picture while this page is shown, in the place of the facts of the selected step."""
        return None

    def figure(self) -> str:
        """The answer in a figure, for the rail; empty before there is one."""
        return ""

    def waits_for(self) -> tuple[str, str]:
        """What stands in the place of a figure once a frame is open, and what to do about it."""
        return UNKNOWN, "Measure the frame with Ctrl+M to fill this page"

    def focus_search(self) -> None:
        """Put the cursor where one searches."""

    def show_recent(self, names: list[str]) -> None:
        """Offer the files that were opened last."""

    def close_page(self) -> None:
        """Before the window goes: remember, and end what was started here."""


Maker = Callable[[Workspace, QSettings], Page]
_makers: dict[str, Maker] = {}
_DECLARED = re.compile(r'^@page\("([^"]+)", (-?\d+)\)$', re.MULTILINE)


def page(title: str, order: int) -> Callable[[Maker], Maker]:
    """Register a page: its title in the rail and its place in working order. Both are read from the text of the module
    before it is imported, so they stand there as they are, in one line.
    """

    def register(maker: Maker) -> Maker:
        _makers[title] = maker
        return maker

    return register


def pages() -> list[tuple[str, Maker]]:
    """(title, maker) of every page, in working order. A page's module is imported when the page is made: what all of
    them import takes longer than the window.
    """
    found: list[tuple[int, str, str]] = []
    for module in pkgutil.iter_modules(importlib.import_module(__package__).__path__):
        spec = importlib.util.find_spec(f"{__package__}.{module.name}")
        if spec is not None and spec.origin and not module.name.startswith("_"):
            for title, order in _DECLARED.findall(Path(spec.origin).read_text("utf-8")):
                found.append((int(order), title, module.name))
    return [(title, functools.partial(_make, module, title)) for _, title, module in sorted(found)]


def page_modules() -> Iterator[str]:
    """What pages are made of, piece by piece: importing all at once takes longer than anybody should wait."""
    for package in ("charts", "views", "pages"):
        name = f"{__package__.rpartition('.')[0]}.{package}"
        for module in pkgutil.iter_modules(importlib.import_module(name).__path__):
            yield f"{name}.{module.name}"


def _make(module: str, title: str, workspace: Workspace, settings: QSettings) -> Page:
    importlib.import_module(f"{__package__}.{module}")
    return _makers[title](workspace, settings)
