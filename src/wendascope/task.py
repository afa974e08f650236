"""Long work as whoever does it sees it."""

from __future__ import annotations

from collections.abc import Callable

from wendascope.errors import CancelledError

Told = Callable[[str, float], None]
"""(what is being done, how much of it is done, 0 to 1)."""


class Task:
    """Says how far work is, and hears that nobody wants it any more. Without arguments it does neither."""

    def __init__(self, told: Told = lambda _what, _part: None, cancelled: Callable[[], bool] = lambda: False) -> None:
        self._told = told
        self._cancelled = cancelled

    def tell(self, what: str, part: float) -> None:
        """Say what is being done and how much of it is done."""
        self._told(what, part)

    def progress(self, what: str, part: float) -> None:
        """The same at a place where work can end. Raises CancelledError when cancelled."""
        self.tell(what, part)
        self.check()

    @property
    def cancelled(self) -> bool:
        """Whether nobody wants it any more."""
        return self._cancelled()

    def check(self) -> None:
        """Raises CancelledError when cancelled."""
        if self._cancelled():
            raise CancelledError("cancelled")

    def part(self, first: float, last: float, prefix: str = "") -> Task:
        """A part of the work, which is this much of the whole; what it says gets a prefix."""
        return Task(lambda what, part: self._told(prefix + what, first + (last - first) * part), self._cancelled)

    def one_of(self, what: str, number: int, count: int) -> Task:
        """One of several parts alike, counted from 1, which is named in all that it says."""
        return self.part((number - 1) / count, number / count, f"{what} {number} of {count}: ")

    def quietly(self) -> Task:
        """The same without a word."""
        return Task(cancelled=self._cancelled)

    def until(self, ended: Callable[[], bool]) -> Task:
        """The same, cancelled where something else says so, too."""
        return Task(self._told, lambda: self._cancelled() or ended())


QUIET = Task()
"""Work of which nobody hears."""
