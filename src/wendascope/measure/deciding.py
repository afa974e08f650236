"""When enough pairs were measured: looks at a growing sample, whose chances of a wrong claim add up as promised.

Group-sequential, with the error spent look by look (Lan and DeMets, "Discrete sequential boundaries for clinical
trials", Biometrika 70, 1983), here by the union bound: at each look the interval of order statistics that holds the
median with a certainty of 1 - alpha of that look (see `statistics.rank_bounds`). It needs neither a distribution nor a
variance, only that differences of pairs scatter round one median; drift of the machine falls on both of a pair.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from enum import StrEnum

import numpy as np

from wendascope.measure.statistics import Interval, median_interval

LOOKS = ((10, 0.002), (20, 0.0008), (32, 0.0005), (48, 0.0004), (64, 0.0003))
"""(pairs, chance of a wrong claim at this look). Ten pairs are the fewest whose range holds the median so surely."""
_LAST_HALF = 0.42
"""Half of the interval of the last look, as a part of the range of the middle half of the differences: of normal noise,
for which that range is 1.35 deviations and the interval at 64 pairs 0.56 either way."""
ERROR = sum(alpha for _, alpha in LOOKS)
"""The chance that any look claims a difference where there is none: 0.4 %."""
MOST_PAIRS = LOOKS[-1][0]


class Decision(StrEnum):
    """What the differences of pairs, original less changed, come to."""

    GAIN = "gain"
    LOSS = "loss"
    SMALL = "small"
    """Less than what matters, either way."""
    OPEN = "open"


@dataclass
class Measure:
    """One quantity of pairs, decided as they come. All in the same unit.

    A difference is claimed when the whole interval lies beyond `floor`, and said to be small when it lies within
    `small`.
    """

    floor: float
    small: float
    differences: list[float] = field(default_factory=list)
    decision: Decision = Decision.OPEN
    interval: Interval | None = None
    """At the last look."""
    looks: int = 0
    hopeless: bool = False
    """Whether all pairs together are unlikely to decide it. To stop for that costs no certainty of what is claimed."""

    def add(self, difference: float) -> None:
        """Take one pair; decides when it is time for a look."""
        self.differences.append(difference)
        if self.looks < len(LOOKS) and len(self.differences) == LOOKS[self.looks][0]:
            self._look(LOOKS[self.looks][1])
            self.looks += 1

    def _look(self, alpha: float) -> None:
        found = median_interval(np.array(self.differences), 1 - alpha)
        # no later look widens what an earlier one has shown: both hold at the promised certainty
        if self.interval is not None:
            low, high = max(found.low, self.interval.low), min(found.high, self.interval.high)
            found = Interval(min(max(found.median, low), high), low, high) if low <= high else found
        self.interval = found
        if self.decision is Decision.OPEN:
            if found.low > self.floor:
                self.decision = Decision.GAIN
            elif found.high < -self.floor:
                self.decision = Decision.LOSS
            elif -self.small <= found.low and found.high <= self.small:
                self.decision = Decision.SMALL
        quarter, three = np.percentile(self.differences, (25, 75))
        half, middle = _LAST_HALF * float(three - quarter), abs(found.median)
        self.hopeless = not self.decided and middle - half <= self.floor and middle + half > self.small

    @property
    def decided(self) -> bool:
        return self.decision is not Decision.OPEN


def all_decided(measures: Sequence[Measure]) -> bool:
    """Whether no more pairs are needed, or none would help."""
    return all(measure.decided or measure.hopeless for measure in measures)
