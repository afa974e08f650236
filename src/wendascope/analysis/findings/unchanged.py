"""Passes that are drawn again in every frame of a sequence, though they come to the same each time."""

from __future__ import annotations

from collections.abc import Iterator

from wendascope.analysis.findings._registry import Case, Finding, Remedy, finding
from wendascope.analysis.liveness import without_effect
from wendascope.frame.passes import Target
from wendascope.texts import listed, plural, verb


@finding("unchanged-pass")
def unchanged(case: Case) -> Iterator[Finding]:
    """Images that hold the same, byte for byte, after the passes of every frame."""
    known = case.unchanged
    if known is None or len(known.passes) == len(case.names):
        return  # nothing moves in these frames: that says nothing of other ones
    frame, dead = case.frame, without_effect(case.frame)
    for passes in _sharing_images(frame.passes.targets):
        steps = sorted(s for index in passes for s in case.steps_of(index))
        draws = [s for s in steps if frame.steps.kind_name(s) == "draw"]
        if not set(passes) <= set(known.passes) or not draws or all(dead[s] for s in steps):
            continue
        names = list(dict.fromkeys(case.names[index] for index in passes))
        several = len(names) > 1
        yield Finding(
            id=f"unchanged-pass-{passes[0]}",
            rule="unchanged-pass",
            page="Time",
            title=(
                f"{listed(names)}: {plural(len(draws), 'draw')} {verb(len(draws), 'makes', 'make')} the same image in"
                f" all {known.frames} frames"
            ),
            why=(
                "Every byte of what is drawn here is the same after each of these frames. It can be drawn once and"
                " kept."
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
            conditions=(
                "draw it again when anything that it shows changes: what moves in it, its light, its camera, its size."
                " Frames that were not captured may differ"
            ),
            remedy=Remedy("keep-result", steps),
        )


def _sharing_images(targets: list[Target]) -> list[list[int]]:
    """Passes of textures and renderbuffers, those together that draw into a common colour; of depth where there is no
    colour.
    """
    groups: list[tuple[set[tuple[str, int]], list[int]]] = []
    for index, target in enumerate(targets):
        colours = {(a.kind, a.name) for a in target.attachments if a.is_colour}
        images = colours or {(a.kind, a.name) for a in target.attachments}
        if not target.framebuffer or not images:
            continue
        shared = [group for group in groups if group[0] & images]
        groups = [group for group in groups if not group[0] & images]
        names = images.union(*(group[0] for group in shared))
        groups.append((names, [*(i for group in shared for i in group[1]), index]))
    return [passes for _, passes in groups]
