"""Passes that change from frame to frame, of which the greater part is the same draws of the same data every time."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from wendascope.advice.findings._registry import Case, Finding, finding
from wendascope.advice.rule import Effort, Rule, Side
from wendascope.analysis.draws.liveness import without_effect
from wendascope.analysis.sequence.same_steps import static_part
from wendascope.frame.remedy import Remedy
from wendascope.texts import plural, verb

_LEAST_PART = 0.02
"""Of the frame's time: what takes less is not worth an image of its own."""
_LEAST_DRAWS = 2


@finding(
    Rule(
        "static-part",
        "Over time",
        Side.GPU,
        Effort.CODE,
        risk="an old image stays where a change of what it shows is missed",
        leaves_out=True,
    )
)
def static_parts(case: Case) -> Iterator[Finding]:
    """What a pass draws anew from the same inputs in all frames, under what moves in it."""
    known = case.other_frames
    if known is None or not known.same_steps:
        return
    frame, dead = case.frame, without_effect(case.frame)
    same = np.zeros(len(frame.steps), bool)
    same[known.same_steps] = True
    if same.all():
        return  # nothing moves in these frames: that says nothing of other ones
    for index in range(len(frame.passes)):
        steps = static_part(frame, index, same)
        draws = [step for step in steps if frame.steps.kind_name(step) == "draw"]
        whole = len(case.steps_of(index))
        if len(draws) < _LEAST_DRAWS or len(steps) == whole or index in known.unchanged or all(dead[s] for s in draws):
            continue
        ms = case.time_of(steps)
        if ms is not None and ms < _LEAST_PART * (case.frame_ms or 0.0):
            continue
        yield Finding(
            id=f"static-part-{index}",
            rule="static-part",
            title=(
                f"{case.names[index]}: {plural(len(draws), 'draw')} {verb(len(draws), 'is', 'are')} the same in all"
                f" {known.frames} frames, {whole - len(steps):,} {verb(whole - len(steps), 'step', 'steps')} may change"
            ),
            why=(
                "Calls, state, uniforms, buffers and textures of these draws are the same in each of the frames, by all"
                " that they depend on. Their image can be drawn once, kept, and copied under what changes."
            ),
            steps=steps,
            evidence={
                "frames compared": known.frames,
                "draws that are the same": len(draws),
                "steps of the pass": whole,
                "vertices": int(frame.steps.vertices[draws].sum()),
            },
            estimate_ms=ms,
            how="the time of these draws; copying their image takes some of it",
            price="a second image of the target's size stays in memory, and is copied in every frame",
            conditions="draw them again when the camera, the light or any of them moves. Other frames may differ",
            remedy=Remedy("keep-part", steps),
        )
