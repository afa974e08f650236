"""Which steps read and write which images: what liveness follows, whatever the API."""

from __future__ import annotations

from dataclasses import dataclass, field

from wendascope.frame.numbers import Ints, Mask

Pairs = tuple[Ints, Ints]
"""(steps, resources), pair by pair."""


@dataclass(frozen=True)
class ResourceFlow:
    """Images by numbers of their own; a view and what it views have one number.

    What is not certain is read, and has an effect.
    """

    reads: Pairs
    writes: Pairs
    effects: Mask
    """Steps, shape (steps,), that have an effect whoever reads what they write: they draw into the window, write
    buffers, are counted by a query."""
    read_back: tuple[Ints, Ints]
    """(calls, resources) of everything that is read into memory or a buffer; call -1 where it may be read at any time.
    """
    targets: list[list[int]]
    """For each pass the resources that it draws into."""
    overwritten: Ints
    """Of every pair of `writes`, the step that replaces all of what is written there; the number of steps where none
    does for certain."""
    resources: list[tuple[str, int]] = field(default_factory=list)
    """What each number is: a `texture`, a `renderbuffer` or the `window`, with its name."""
    followed: bool = True
    """False where the frame reads in ways that nobody follows: then all of it has an effect."""
