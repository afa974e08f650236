"""Objects of one kind of finding: the largest that the frame uses one by one, the others together."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Protocol, TypeVar

from wendascope.frame.memory import MemoryItem


class Saving(Protocol):
    @property
    def item(self) -> MemoryItem: ...

    @property
    def saved(self) -> int: ...


S = TypeVar("S", bound=Saving)


def by_use(rows: Iterable[S], least: int, alone: int) -> tuple[list[S], list[S], list[S]]:
    """(the `alone` largest of those that are used, the rest of them, those that are not), of what saves the least bytes
    and more, the largest first.
    """
    found = sorted((row for row in rows if row.saved >= least), key=lambda row: -row.saved)
    used = [row for row in found if row.item.used]
    return used[:alone], used[alone:], [row for row in found if not row.item.used]
