"""Finds the lenses: every module of this package that makes one."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
import numpy.typing as npt

from wendascope.discovery import import_all
from wendascope.errors import UsageError

if TYPE_CHECKING:
    from wendascope.frame.passes import Target
    from wendascope.replay.session import ReplaySession

Image = npt.NDArray[np.uint8]
Measure = Callable[["ReplaySession", "Target"], dict[str, Any]]


@dataclass(frozen=True)
class Lens:
    """`measure` runs after the frame was replayed up to the step; `paint` makes an image (h, w, 3), top row first."""

    name: str
    title: str
    measure: Callable[[ReplaySession, Target], dict[str, Any]]
    paint: Callable[[dict[str, Any]], Image]
    probe: Callable[[dict[str, Any], int, int], str]
    """Says what is at a pixel (x from the left, y from the bottom)."""


_found: dict[str, Lens] = {}


def lens(name: str, title: str, paint: Callable[[dict[str, Any]], Image], probe: Callable[[dict[str, Any], int, int], str]) -> Callable[[Measure], Measure]:
    """Decorator that registers a measuring function as a lens."""

    def register(measure: Measure) -> Measure:
        _found[name] = Lens(name, title, measure, paint, probe)
        return measure

    return register


def lenses() -> list[Lens]:
    """All lenses, colour first."""
    import_all("wendascope.measure.lenses")
    return sorted(_found.values(), key=lambda item: (item.name != "colour", item.name))


def lens_named(name: str) -> Lens:
    """Raises UsageError when there is none of that name."""
    import_all("wendascope.measure.lenses")
    if name not in _found:
        raise UsageError(f"there is no lens called {name}; choose {' or '.join(item.name for item in lenses())}")
    return _found[name]
