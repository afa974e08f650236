"""Finds the amounts: every module of this package that registers one."""

from __future__ import annotations

import functools
from collections.abc import Callable
from dataclasses import dataclass, field
from enum import StrEnum

from wendascope.analysis.draws.sharing import Sharing
from wendascope.analysis.geometry.drawn import Drawn
from wendascope.analysis.shaders.study import ProgramStudy, study_shaders
from wendascope.discovery import import_all
from wendascope.errors import UsageError
from wendascope.frame.call_use import CallUse
from wendascope.frame.frame import Frame
from wendascope.measure.drawn import measure_drawn
from wendascope.replay.client import Replay
from wendascope.task import QUIET, Task
from wendascope.trials.checks.scopes import Scope


class How(StrEnum):
    """How a number comes about, and so how sure it is."""

    COUNTED = "counted"
    """From the calls of the frame: the same each time, on every machine."""
    REPLAYED = "counted in replay"
    """The same each time with one driver; others may rasterise otherwise."""
    MODELLED = "modelled"
    """Computed from the frame by a model: the same each time, but no time."""
    MEASURED = "measured"
    """Read from clocks: told only where the noise of the machine allows it."""


@dataclass
class Known:
    """A frame with what is counted of it, each when it is first asked for."""

    frame: Frame
    replay: Replay
    task: Task = field(default=QUIET)

    @functools.cached_property
    def use(self) -> CallUse:
        """What became of each call."""
        return self.frame.call_use()

    @functools.cached_property
    def drawn(self) -> Drawn:
        """Counted in replay. Raises ReplayError, CancelledError."""
        return self.replay.run(measure_drawn.asked(timed=False), self.task)

    @functools.cached_property
    def programs(self) -> list[ProgramStudy]:
        """By the model. Raises MachineError where there is no compiler."""
        return study_shaders(Sharing(self.frame), self.drawn)


@dataclass(frozen=True)
class Amount:
    """Something that can be limited. `of` gives its number for a part of a frame, None where that cannot be told."""

    name: str
    how: How
    tip: str
    of: Callable[[Known, Scope], float | None]
    unit: str = ""
    """`ms` or `bytes`; empty for plain numbers."""
    whole_only: bool = False
    """Whether only whole frames have it."""


_found: dict[str, Amount] = {}


def amount(
    name: str, how: How, unit: str = "", whole_only: bool = False
) -> Callable[[Callable[[Known, Scope], float | None]], Callable[[Known, Scope], float | None]]:
    """Register a function as an amount; what it says of itself is what users read."""

    def register(of: Callable[[Known, Scope], float | None]) -> Callable[[Known, Scope], float | None]:
        tip = " ".join((of.__doc__ or "").split()).rstrip(".")
        _found[name] = Amount(name, how, tip if tip[1:2].isupper() else tip[:1].lower() + tip[1:], of, unit, whole_only)
        return of

    return register


def amounts() -> list[Amount]:
    """All of them, by how they come about, then by name."""
    import_all("wendascope.trials.checks.amounts")
    return sorted(_found.values(), key=lambda item: (list(How).index(item.how), item.name))


def amount_named(name: str) -> Amount:
    """Raises UsageError that names those there are."""
    found = next((item for item in amounts() if item.name == name), None)
    if found is None:
        raise UsageError(f"there is no amount {name!r}; there are {', '.join(item.name for item in amounts())}")
    return found
