"""Blended layers that take much of the frame: what leaving out the faintest of them would cost the picture."""

from __future__ import annotations

from collections.abc import Iterator

from wendascope.advice.findings._registry import Case, Facts, Finding, finding
from wendascope.advice.rule import Effort, Rule, Side
from wendascope.analysis.geometry.drawn import StepDrawn
from wendascope.frame.remedy import Remedy
from wendascope.texts import plural, share

_LEAST_TIME = 0.05
"""Of the frame: layers that take less are not worth a trade."""
_LARGE = 0.1
"""Of their target: smaller ones are no layers."""
_LEAST_LAYERS = 3


@finding(
    Rule("blended-layers", "Overdraw", Side.GPU, Effort.SETTING, risk="haze, smoke or glow becomes thinner: look at it")
)
def blended_layers(case: Case) -> Iterator[Finding]:
    """Passes in which blended draws lie over each other several times."""
    whole = sum(case.passes_in_frame)
    for index, name in enumerate(case.names):
        target = case.frame.passes.targets[index]
        area = max(target.width * target.height, 1)
        layers = {s: row for s, row in case.rows(index) if row.kind == "blended" and row.fragments >= _LARGE * area}
        ms = case.time_of(layers)
        if len(layers) < _LEAST_LAYERS or ms is None or ms < _LEAST_TIME * whole:
            continue
        faint = sorted(layers, key=lambda step: _effect(layers[step]))[: len(layers) // 2]
        fragments = sum(row.fragments for row in layers.values())
        idle = sum(max(row.idle, 0) for row in layers.values())
        yield Finding(
            id=f"blended-layers-{index}",
            rule="blended-layers",
            title=(
                f"{name}: {plural(len(layers), 'blended layer')} cover the target {fragments / area:.1f} times and take"
                f" {share(ms / whole) if whole else 'much'} of the frame"
            ),
            why=(
                "Each layer shades and blends all that it covers, on top of the others, and nothing hides it from the"
                " depth test. Fewer or smaller layers that are each a little stronger look much the same."
            ),
            steps=sorted(layers),
            evidence={
                "layers": len(layers),
                "fragments blended": fragments,
                "of them without any effect": idle,
                "coverage of the target": round(fragments / area, 2),
                "all layers, ms": round(ms, 3),
                **{f"layer of step {s}, ms": round(case.time_of([s]) or 0.0, 3) for s in sorted(layers)[:8]},
            },
            estimate_ms=case.time_of(faint),
            how=f"the time of the {plural(len(faint), 'layer')} with the least effect",
            price="what these layers add to the picture",
            conditions="estimate and proof leave the faintest half of the layers out; the rest could be made stronger",
            remedy=Remedy("fewer-layers", sorted(faint)),
            facts=Facts(name),
        )


def _effect(row: StepDrawn) -> float:
    """The part of a layer's fragments that change a colour."""
    return 1 - max(row.idle, 0) / max(row.fragments, 1)
