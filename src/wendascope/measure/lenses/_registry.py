"""Finds the lenses: every module of this package that makes one."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
import numpy.typing as npt

from wendascope.discovery import import_all
from wendascope.errors import UsageError
from wendascope.frame.contents import ImageValues

if TYPE_CHECKING:
    from wendascope.backends.doors import Session
    from wendascope.frame.passes import Target
    from wendascope.task import Task

Image = npt.NDArray[np.uint8]
Found = dict[str, Any]


@dataclass(frozen=True)
class Place:
    """What a lens looks at: a target, as it stands after a step; without a step, at the end of the frame."""

    target: Target
    step: int | None


@dataclass(frozen=True)
class LegendEntry:
    """One colour of a picture, what it means, and the share of the picture that has it."""

    colour: str
    text: str
    share: float


Measure = Callable[["Session", "Task", Place], Found]


@dataclass(frozen=True)
class Lens:
    """`measure` runs in the replay process; the others need nothing but what it returned. Rows are from the bottom."""

    name: str
    title: str
    order: int
    """Its place among the lenses, which stays what it is when others come."""
    measure: Measure
    paint: Callable[[Found], Image]
    """An image (h, w, 3), top row first."""
    probe: Callable[[Found, int, int], str]
    """Says what is at a pixel (x from the left, y from the bottom)."""
    replays: bool = True
    """Whether the frame is to be replayed up to the step before `measure` runs."""
    legend: Callable[[Found], list[LegendEntry]] | None = None
    values: Callable[[Found], tuple[ImageValues, str]] | None = None
    """The values behind the picture and the kind of their format, where a range of them can be chosen to be shown."""
    note: Callable[[Found], str] | None = None
    """What to say beside the picture; empty where there is nothing to say."""
    figure: Callable[[Found, int, int], str] | None = None
    """A short text written into a pixel when it is shown large."""
    alike: Callable[[Found, int, int], npt.NDArray[np.bool_] | None] | None = None
    """Pixels that belong together with one, shape (h, w), bottom row first."""
    step_at: Callable[[Found, int, int], int | None] | None = None
    """The step that a pixel stands for."""
    program_at: Callable[[Found, int, int], int | None] | None = None
    """The program that a pixel stands for."""
    of_program: Callable[[Found, int], npt.NDArray[np.bool_]] | None = None
    """Pixels that stand for a program, shape (h, w), bottom row first."""

    @property
    def shortcut(self) -> str:
        """Keys that choose it; empty where there are none left."""
        return f"Ctrl+{self.order}" if self.order <= 9 else ""


_found: dict[str, Lens] = {}


def lens(
    name: str,
    title: str,
    order: int,
    paint: Callable[[Found], Image],
    probe: Callable[[Found, int, int], str],
    **more: Any,
) -> Callable[[Measure], Measure]:
    """Decorator that registers a measuring function as a lens; `more` are further fields of it."""

    def register(measure: Measure) -> Measure:
        _found[name] = Lens(name, title, order, measure, paint, probe, **more)
        return measure

    return register


def lenses() -> list[Lens]:
    """All lenses in their order, colour first."""
    import_all("wendascope.measure.lenses")
    return sorted(_found.values(), key=lambda item: (item.order, item.name))


def lens_named(name: str) -> Lens:
    """Raises UsageError when there is none of that name."""
    import_all("wendascope.measure.lenses")
    if name not in _found:
        raise UsageError(f"there is no lens called {name}; choose {' or '.join(item.name for item in lenses())}")
    return _found[name]
