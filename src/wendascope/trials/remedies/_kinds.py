"""What a kind of remedy is: what it claims, when it is tried, and what it cannot stand beside. Declared where it is.

Whoever refutes, proves, combines or shows remedies asks here; nothing else lists names of kinds.
"""

from __future__ import annotations

import enum
from collections.abc import Callable
from dataclasses import dataclass

from wendascope.discovery import import_all
from wendascope.errors import TrialError
from wendascope.frame.remedy import Remedy


class Claim(enum.Enum):
    """What a kind promises of the picture."""

    SAME = "the picture stays the same"
    NEARLY = "the picture hardly changes"
    TRADE = "quality for time: the picture changes, and is shown"
    EXPERIMENT = "nothing: it is done to learn what a frame is limited by"


class Gains(enum.Enum):
    """What a kind is for."""

    TIME = "time"
    MEMORY = "memory"


class Trying(enum.IntEnum):
    """How a survey tries a kind before it is claimed."""

    NEVER = 0
    """Not at all."""
    TOGETHER = 1
    """All of them as one frame first."""
    SHADERS = 2
    """The same, after those: other shaders have to be compiled."""
    DRAWS = 3
    """The same, after those: they take longest to make."""
    BY_ITSELF = 4
    """One by one, as two seldom go together."""


class Clash(enum.Enum):
    """What two remedies of a kind, or of this and another one, may not share."""

    NOTHING = "nothing"
    STEPS = "steps that are drawn otherwise"
    ORDER = "steps that are moved"
    DRAWS = "steps that are drawn together"


class Phase(enum.IntEnum):
    """When a kind is applied among others."""

    FIRST = 0
    """Whole sources: others rewrite what comes of them."""
    MIDDLE = 1
    LAST = 2
    """Values written into what came of it all."""


@dataclass(frozen=True)
class Kind:
    """One kind of remedy. `trade` tells of single remedies of a kind that claims more whether they claim no more than
    a trade.
    """

    name: str
    claim: Claim
    trying: Trying = Trying.NEVER
    gains: Gains = Gains.TIME
    clash: Clash = Clash.NOTHING
    phase: Phase = Phase.MIDDLE
    leaves_out: bool = False
    """Whether a part of its steps is worth something by itself: then a refuted one is halved."""
    nowhere_far: bool = False
    """Of one that nearly keeps the picture: a single pixel far off is too much, where what it changes is small."""
    stands_for: str = ""
    """Why it tells nothing of time: it stands for a change that it does not make."""
    measured_anyway: bool = False
    """Whether it is measured although the picture changed, which it should not."""
    trade: Callable[[Remedy], bool] | None = None
    no_difference: str = ""
    """What it may mean where it makes no difference."""

    def claim_of(self, remedy: Remedy) -> Claim:
        """What one remedy of the kind claims."""
        return Claim.TRADE if self.trade is not None and self.trade(remedy) else self.claim


known_kinds: dict[str, Kind] = {}
"""Name -> kind, once the modules of this package are imported."""


def declare(
    name: str, claim: Claim, trying: Trying = Trying.NEVER, gains: Gains = Gains.TIME, clash: Clash = Clash.NOTHING,
    phase: Phase = Phase.MIDDLE, leaves_out: bool = False, nowhere_far: bool = False, stands_for: str = "",
    measured_anyway: bool = False, trade: Callable[[Remedy], bool] | None = None, no_difference: str = "",
) -> None:  # fmt: skip
    """Declare a kind of remedy; the arguments are the fields of `Kind`."""
    known_kinds[name] = Kind(
        name, claim, trying, gains, clash, phase, leaves_out, nowhere_far, stands_for, measured_anyway, trade,
        no_difference,
    )  # fmt: skip


def kind_of(remedy: Remedy) -> Kind:
    """Raises TrialError for a kind that this version does not know."""
    import_all("wendascope.trials.remedies")
    if remedy.kind not in known_kinds:
        raise TrialError(f"this version knows no remedy called {remedy.kind}")
    return known_kinds[remedy.kind]


def claim_of(remedy: Remedy) -> Claim:
    """What a remedy promises of the picture. Raises TrialError for a kind that this version does not know."""
    return kind_of(remedy).claim_of(remedy)


def may_change_picture(remedy: Remedy) -> bool:
    """Whether a changed picture is no reason not to measure a remedy."""
    return claim_of(remedy) in (Claim.NEARLY, Claim.TRADE) or kind_of(remedy).measured_anyway
