"""Layers that are drawn anew in every frame, though each is the one of the frame before, moved by whole pixels."""

from __future__ import annotations

from collections.abc import Iterator

from wendascope.advice.findings._registry import Case, Finding, finding
from wendascope.advice.rule import Effort, Rule, Side
from wendascope.frame.remedy import Remedy
from wendascope.texts import listed, plural, verb


@finding(
    Rule(
        "moved-layer",
        "Over time",
        Side.GPU,
        Effort.CODE,
        risk="an old part of it stays where a change of what it shows is missed",
        leaves_out=True,
    )
)
def moved_layers(case: Case) -> Iterator[Finding]:
    """Images of which every byte that two frames in a row share is the same, in all frames of the sequence."""
    known = case.other_frames
    if known is None:
        return
    for passes, view in known.late:
        if not view.scrolls or view.refused:
            continue
        steps = sorted(s for index in passes for s in case.steps_of(index))
        draws = [s for s in steps if case.frame.steps.kind_name(s) == "draw"]
        names = listed(list(dict.fromkeys(case.names[index] for index in passes)))
        offsets = {(columns, rows) for _, columns, rows in view.moved}
        motion = ", ".join(f"{columns:+d} columns and {rows:+d} rows" for columns, rows in sorted(offsets)[:3])
        yield Finding(
            id=f"moved-layer-{passes[0]}",
            rule="moved-layer",
            title=(
                f"{names}: {plural(len(draws), 'draw')} {verb(len(draws), 'makes', 'make')} the image of the frame"
                " before, moved by whole pixels"
            ),
            why=(
                f"Every byte that two frames in a row both show is the same, moved by {motion}. The layer can be drawn"
                " once, larger than what is seen of it, and shown at an offset; only what comes in at its edge is new."
            ),
            steps=steps,
            evidence={
                "frames compared": known.frames,
                "frames in which it is moved": len(view.moved),
                "frames in which it changes": view.changes,
                "draws": len(draws),
            },
            estimate_ms=case.time_of(steps),
            how="the time of the layer; drawing what comes in at its edge takes a little of it",
            price="an image larger than what is seen of it stays in memory",
            conditions="draw it again when anything in it changes, or when what is kept of it runs out",
            remedy=Remedy("keep-result", steps),
        )
