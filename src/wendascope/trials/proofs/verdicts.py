"""What can be said of a change that was measured against the original: pure rules over numbers."""

from __future__ import annotations

import enum
from dataclasses import dataclass

from wendascope.measure.deciding import Decision
from wendascope.measure.statistics import Interval


class Verdict(enum.StrEnum):
    """What a proof says. The values are how it is told, and what files keep."""

    SAVES = "saves"
    COSTS = "costs"
    NO_DIFFERENCE = "no measurable difference"
    NOISE = "cannot be told at this noise"
    CHANGES = "changes the picture"
    LEAVES = "changes what is left behind"
    REFUSED = "cannot be tried"


VERDICTS = tuple(Verdict)
"""Files of other versions may hold others."""
SHOWN = (Verdict.SAVES, Verdict.COSTS, Verdict.NO_DIFFERENCE)
"""Verdicts that show something about time with the same picture."""
SUBMISSION, API = "submission", "the API's part of submission"
SHORT: dict[str, str] = {
    Verdict.NO_DIFFERENCE: "no difference",
    Verdict.NOISE: "not to be told",
    Verdict.CHANGES: "changes picture",
    Verdict.LEAVES: "left behind",
    Verdict.REFUSED: "not tried",
}
"""For narrow columns."""
_SMALL_SHARE, _SMALL_MS = 0.01, 0.02
"""A difference below one percent of the frame (or this, of a very short one) is none that matters."""


@dataclass(frozen=True)
class Judged:
    verdict: Verdict
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
        return Judged(Verdict.SAVES)
    if saved.high < 0:
        return Judged(Verdict.COSTS)
    return Judged(Verdict.NO_DIFFERENCE if bound_ms(saved) <= small_ms(frame_ms) else Verdict.NOISE)


_WORDS = {
    Decision.GAIN: Verdict.SAVES,
    Decision.LOSS: Verdict.COSTS,
    Decision.SMALL: Verdict.NO_DIFFERENCE,
    Decision.OPEN: Verdict.NOISE,
}


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
