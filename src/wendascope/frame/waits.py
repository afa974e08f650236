"""Calls that waited while the frame was recorded."""

from __future__ import annotations

from dataclasses import dataclass

SHORTEST_MS = 0.05
"""Waits shorter than this are left out."""


@dataclass(frozen=True)
class Wait:
    """A call that waited, and for what, in words."""

    call: int
    command: str
    ms: float
    what: str
    anyway: bool = False
    """Whether the program asked in the way that lets it go on, and this driver held it all the same."""
