"""What a session keeps from one job to the next, each in a slot that knows its type."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Generic, TypeVar

T = TypeVar("T")


class Slot(Generic[T]):
    """A place for one value of a session. Made once, where the value is worked out.

        _CLOCK: Slot[str] = Slot("clock")
        method = session.slots.get(_CLOCK, lambda: calibrate(session, job).method)

    Two slots are never the same, whatever they are called.
    """

    def __init__(self, name: str) -> None:
        self.name = name

    def __repr__(self) -> str:
        return f"Slot({self.name!r})"


class Slots:
    """The values of one session."""

    def __init__(self) -> None:
        self._values: dict[Slot[Any], Any] = {}

    def get(self, slot: Slot[T], make: Callable[[], T]) -> T:
        """The value of a slot, made when it is first asked for."""
        if slot not in self._values:
            self._values[slot] = make()
        value: T = self._values[slot]
        return value

    def put(self, slot: Slot[T], value: T) -> T:
        """Replace the value of a slot."""
        self._values[slot] = value
        return value
