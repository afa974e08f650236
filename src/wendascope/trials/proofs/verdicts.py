"""What can be said of a change that was measured against the original: pure rules over numbers."""

from __future__ import annotations

from dataclasses import dataclass

from wendascope.measure.deciding import Decision
from wendascope.measure.statistics import Interval

SAVES, COSTS = "saves", "costs"
NO_DIFFERENCE, NOISE = "no measurable difference", "cannot be told at this noise"
CHANGES, LEAVES, REFUSED = "changes the picture", "changes what is left behind", "cannot be tried"
VERDICTS = (SAVES, COSTS, NO_DIFFERENCE, NOISE, CHANGES, LEAVES, REFUSED)
SHOWN = (SAVES, COSTS, NO_DIFFERENCE)
"""Verdicts that show something about time with the same picture."""
SUBMISSION, API = "submission", "the API's part of submission"
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
    """`SUBMISSION` or `API` where that is saved or lost, and the work of the frame shows nothing."""


def small_ms(frame_ms: float) -> float:
    """A difference of less than this in ms is none that matters in a frame of that length."""
    return max(_SMALL_SHARE * frame_ms, _SMALL_MS)


def judge_times(saved: Interval, frame_ms: float) -> Judged:
    """The verdict on a change that keeps the picture: `saved` is original less changed, in ms, with an interval of the
    certainty that is promised.
    """
    if saved.low > 0:
        return Judged(SAVES)
    if saved.high < 0:
        return Judged(COSTS)
    return Judged(NO_DIFFERENCE if bound_ms(saved) <= small_ms(frame_ms) else NOISE)


_WORDS = {Decision.GAIN: SAVES, Decision.LOSS: COSTS, Decision.SMALL: NO_DIFFERENCE, Decision.OPEN: NOISE}


def judge_sides(work: Decision, submission: Decision, api: Decision = Decision.OPEN) -> Judged:
    """The verdict from what the GPU's work and the CPU's submission came to: the work decides where it shows something,
    else submission does, else its part that is the API's alone.
    """
    if work in (Decision.GAIN, Decision.LOSS):
        return Judged(_WORDS[work])
    if submission in (Decision.GAIN, Decision.LOSS):
        return Judged(_WORDS[submission], SUBMISSION)
    if submission is Decision.OPEN and api in (Decision.GAIN, Decision.LOSS):
        return Judged(_WORDS[api], API)
    return Judged(_WORDS[work])


def bound_ms(saved: Interval) -> float:
    """What a difference is less than, either way."""
    return max(abs(saved.low), abs(saved.high))
