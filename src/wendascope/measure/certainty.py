"""How sure the times of a survey are: a machine that is busy makes them wide, and unlike each other."""

from __future__ import annotations

from wendascope.measure.records import Survey

_WIDE = 0.25
"""Of the median: an interval that is wider says that something else ran."""
_APART = 0.25
"""By so much of the frame's time the sum of its passes may differ from it: they are timed one by one."""


def doubts(survey: Survey) -> list[str]:
    """What makes the times unsure, a sentence each without its full stop; empty where nothing does."""
    frame = survey.frame_ms
    found = []
    if frame.median > 0 and frame.high - frame.low > _WIDE * frame.median:
        found.append(
            f"times are unsure, {frame.low:.1f} to {frame.high:.1f} ms: something else kept this machine busy;"
            " measure again when it is idle"
        )
    total = sum(p.ms for p in survey.passes)
    if survey.passes and abs(total - frame.median) > _APART * frame.median:
        why = "the load of this machine changed between the two" if found else "work of neighbours overlaps"
        found.append(f"the passes add up to {total:.1f} ms, and the frame takes {frame.median:.1f} ms: {why}")
    return found
