"""Passes that are drawn again in every frame of a sequence, though they come to the same each time."""

from __future__ import annotations

from collections.abc import Iterator

from wendascope.advice.findings._registry import Case, Finding, finding
from wendascope.advice.rule import Effort, Rule, Side
from wendascope.analysis.draws.liveness import without_effect
from wendascope.analysis.sequence.late_views import sharing_images
from wendascope.frame.remedy import Remedy
from wendascope.texts import listed, plural, verb

_BY_CHANCE = "it may be the same by chance: see what in its inputs changes. "
_CONDITIONS = (
    "draw it again when anything that it shows changes: what moves in it, its light, its camera, its size. Frames that"
    " were not captured may differ"
)


@finding(
    Rule(
        "unchanged-pass",
        "Over time",
        Side.GPU,
        Effort.CODE,
        risk="an old image stays where a change of what it shows is missed",
        leaves_out=True,
    )
)
def unchanged(case: Case) -> Iterator[Finding]:
    """Images that hold the same, byte for byte, after the passes of every frame."""
    known = case.other_frames
    if known is None or len(known.unchanged) == len(case.names):
        return  # nothing moves in these frames: that says nothing of other ones
    frame, dead = case.frame, without_effect(case.frame)
    for passes in sharing_images(frame.passes.targets):
        steps = sorted(s for index in passes for s in case.steps_of(index))
        draws = [s for s in steps if frame.steps.kind_name(s) == "draw"]
        if not set(passes) <= set(known.unchanged) or not draws or all(dead[s] for s in steps):
            continue
        names = list(dict.fromkeys(case.names[index] for index in passes))
        several, made_alike = len(names) > 1, set(steps) <= set(known.same_steps)
        yield Finding(
            id=f"unchanged-pass-{passes[0]}",
            rule="unchanged-pass",
            title=(
                f"{listed(names)}: {plural(len(draws), 'draw')} {verb(len(draws), 'makes', 'make')} the same image in"
                f" all {known.frames} frames"
            ),
            why=(
                "Every byte of what is drawn here is the same after each of these frames, and "
                + ("so is all that its draws depend on" if made_alike else "not all that its draws depend on is")
                + ". It can be drawn once and kept."
            ),
            steps=steps,
            evidence={
                "frames compared": known.frames,
                "steps": len(steps),
                "passes": len(passes),
                "vertices": int(frame.steps.vertices[steps].sum()),
                "fragments": sum(max(case.drawn.steps[s].fragments, 0) for s in steps if s < len(case.drawn.steps)),
            },
            estimate_ms=case.time_of(steps),
            how=f"the time of the {'passes' if several else 'pass'}, in every frame that keeps the image",
            price="the image has to stay in memory, untouched, from frame to frame",
            conditions=("" if made_alike else _BY_CHANCE) + _CONDITIONS,
            remedy=Remedy("keep-result", steps),
        )
