"""What a table leaves out where it is narrow: names come first."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

from PySide6.QtWidgets import QTableView, QTreeView


class Taken(NamedTuple):
    """What one column takes of a table's width, beside the one that takes what room is left."""

    number: int
    width: int
    gives_way: bool


def hide_what_gives_way(view: QTableView | QTreeView, columns: Sequence[Taken], least: int) -> None:
    """Hide columns that can give way, the last first, until `least` pixels are left for names; show the others."""
    left = view.viewport().width() - sum(column.width for column in columns)
    for column in reversed(columns):
        if column.gives_way:
            hide = left < least
            view.setColumnHidden(column.number, hide)
            left += column.width if hide else 0
