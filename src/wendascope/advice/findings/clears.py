"""Clears of colour whose every pixel is drawn over."""

from __future__ import annotations

from collections.abc import Iterator

from wendascope.advice.findings._registry import Case, Finding, finding
from wendascope.advice.rule import Effort, Rule, Side
from wendascope.frame.remedy import Remedy


@finding(Rule("covered-clear", "Overdraw", Side.GPU, Effort.SETTING, risk="low"))
def covered_clears(case: Case) -> Iterator[Finding]:
    """Clears of colour all of which is drawn over."""
    for index, name in enumerate(case.names):
        for step in case.steps_of(index):
            row = case.drawn.steps[step]
            if row.kind != "clear" or row.survivors != 0 or row.fragments <= 0:
                continue
            yield Finding(
                id=f"covered-clear-{step}",
                rule="covered-clear",
                title=f"{name}: the colour clear of step {step:,} is drawn over completely",
                why="Opaque steps cover every pixel it filled before anything blends with it or reads it.",
                steps=[step],
                evidence={"pixels cleared": row.fragments, "visible pixels": 0},
                estimate_ms=case.time_of([step]),
                how="share of the pass time that the clear takes; clears of depth and stencil stay",
                price="none",
                conditions=(
                    "every pixel stays covered as the view changes; keep the clear on tile-based GPUs, where it avoids"
                    " a tile load"
                ),
                remedy=Remedy("drop-colour-clear", [step]),
            )
