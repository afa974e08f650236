"""What can be said of a change that was measured against the original: pure rules over numbers."""

from __future__ import annotations

from dataclasses import dataclass

from wendascope.measure.statistics import Interval

SAVES, COSTS = "saves", "costs"
NO_DIFFERENCE, NOISE = "no measurable difference", "cannot be told at this noise"
CHANGES, LEAVES, REFUSED = "changes the picture", "changes what is left behind", "cannot be tried"
VERDICTS = (SAVES, COSTS, NO_DIFFERENCE, NOISE, CHANGES, LEAVES, REFUSED)
SHOWN = (SAVES, COSTS, NO_DIFFERENCE)
"""Verdicts that show something about time with the same picture."""
SUBMISSION = "submission"
SHORT = {
    NO_DIFFERENCE: "no difference",
    NOISE: "not to be told",
    CHANGES: "changes picture",
    LEAVES: "left behind",
    REFUSED: "not tried",
}
"""For narrow columns."""
_SMALL_SHARE, _SMALL_MS = 0.01, 0.02
"""A difference below one percent of the frame (or this, of a very short one) is none that matters."""


@dataclass(frozen=True)
class Judged:
    verdict: str
    side: str = ""
    """`SUBMISSION` where it is the CPU time of submitting that is saved or lost, and the drained time shows nothing."""


def small_ms(frame_ms: float) -> float:
    """A difference of less than this in ms is none that matters in a frame of that length."""
    return max(_SMALL_SHARE * frame_ms, _SMALL_MS)


def judge_times(saved: Interval, frame_ms: float, submit_saved: Interval | None = None) -> Judged:
    """The verdict on a change that keeps the picture.

    `saved` is original less changed, in ms, with an interval of the certainty that is promised; `submit_saved` the
    same of submitting the frame. The drained time decides where it can; else submission does, which a drained frame
    of a software driver contains and drowns.
    """
    if saved.low > 0:
        return Judged(SAVES)
    if saved.high < 0:
        return Judged(COSTS)
    if submit_saved is not None and submit_saved.low > 0:
        return Judged(SAVES, SUBMISSION)
    if submit_saved is not None and submit_saved.high < 0:
        return Judged(COSTS, SUBMISSION)
    return Judged(NO_DIFFERENCE if bound_ms(saved) <= small_ms(frame_ms) else NOISE)


def bound_ms(saved: Interval) -> float:
    """What a difference is less than, either way."""
    return max(abs(saved.low), abs(saved.high))
