"""Views that change from frame to frame, and that could be drawn in every second, third or fourth frame only."""

from __future__ import annotations

from collections.abc import Iterator

from wendascope.advice.findings._registry import Case, Finding, finding
from wendascope.advice.rule import Effort, Rule, Side
from wendascope.analysis.sequence.late_views import FAR
from wendascope.frame.remedy import Remedy
from wendascope.texts import listed, plural

_ORDINALS = {2: "second", 3: "third", 4: "fourth"}
_LEAST_PART = 0.02
"""Of the frame's time: a view that takes less is not worth an older picture."""


@finding(
    Rule(
        "update-less-often",
        "Over time",
        Side.GPU,
        Effort.CODE,
        risk="the view lags behind: look at it while things move fast",
        leaves_out=True,
    )
)
def less_often(case: Case) -> Iterator[Finding]:
    """Secondary views, reflections and shadows whose result of some frames ago hardly shows in any frame tried."""
    known = case.other_frames
    if known is None:
        return
    width, height = case.frame.size
    for passes, view in known.late:
        steps = sorted(s for index in passes for s in case.steps_of(index))
        if view.scrolls:
            continue  # another finding keeps it without any lag
        rate = view.rate_unseen(width * height)
        worst = view.worst(rate) if rate > 1 else None
        ms = case.time_of(steps)
        if worst is None or (ms is not None and ms < _LEAST_PART * (case.frame_ms or 0.0)):
            continue
        ago = min(rate - 1, known.number - 1)
        names = listed(list(dict.fromkeys(case.names[index] for index in passes)))
        evidence: dict[str, int | float | str] = {
            "frames tried": len({late.frame for late in view.late}),
            "frames in which it changes": view.changes,
            f"pixels that differ, every {_ORDINALS[rate]} frame": worst.pixels_different,
            f"of them by more than {FAR} of 255": worst.pixels_far,
            "largest difference of 255": worst.max_difference,
            "the frame where it differs most": worst.frame,
        }
        if ms is not None:
            evidence["saved on average over all frames, ms"] = round(ms * (rate - 1) / rate, 3)
        yield Finding(
            id=f"update-less-often-{passes[0]}",
            rule="update-less-often",
            title=f"{names}: every {_ORDINALS[rate]} frame is enough, the picture hardly differs",
            why=(
                f"Replayed with what it showed up to {plural(rate - 1, 'frame')} ago, the finished picture differs in"
                f" {worst.pixels_different:,} pixels at most, {worst.pixels_far:,} of them visibly."
            ),
            steps=steps,
            evidence=evidence,
            estimate_ms=ms,
            how="the time of the view, in the frames that leave it out",
            price="the view lags behind: what moves fast in it moves in jumps",
            conditions="faster motion than in these frames shows more of the lag; draw it at once after a cut",
            remedy=Remedy("older-result", steps, frames_ago=ago) if ago else None,
            refused="" if ago else "the first frame of the sequence has none before it: choose a later one",
        )
