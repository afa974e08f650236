"""Long work as whoever does it sees it."""

from __future__ import annotations


class Task:
    """Says how far work is, and hears there that nobody wants it any more. This one says nothing to anybody."""

    def progress(self, what: str, part: float) -> None:
        """Say what is being done and how much of it is done, 0 to 1. Raises CancelledError when cancelled."""
