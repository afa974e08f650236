"""Ways of measuring the work of a span, by the clocks that a run reads between calls."""

from __future__ import annotations

from enum import StrEnum


class Clock(StrEnum):
    """A way of measuring the work of a span."""

    QUERY = "timer query"
    DRAIN = "drain"
    """The time of the wall between two drains."""
    CPU = "CPU time"
    """The CPU time of all threads of the replay process between two drains: on a software driver they are the GPU."""
