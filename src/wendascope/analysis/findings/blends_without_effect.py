"""Blended sheets over much of the target that change little of it."""

from __future__ import annotations

from collections.abc import Iterator

from wendascope.analysis.findings._registry import Case, Finding, finding
from wendascope.texts import plural, share, verb

_LEAST_AREA = 0.1
_LEAST_IDLE = 0.3


@finding("blend-without-effect")
def blends_without_effect(case: Case) -> Iterator[Finding]:
    """Blended full-screen draws that change nothing."""
    for index, name in enumerate(case.names):
        target = case.frame.passes.targets[index]
        area = max(target.width * target.height, 1)
        sheets = {
            step: row for step, row in case.rows(index)
            if row.kind == "blended" and row.survivors >= _LEAST_AREA * area and row.idle >= _LEAST_IDLE * row.survivors
        }  # fmt: skip
        if not sheets:
            continue
        fragments = sum(r.survivors for r in sheets.values())
        idle = sum(r.idle for r in sheets.values())
        yield Finding(
            id=f"blend-without-effect-{index}",
            rule="blend-without-effect",
            page="Overdraw",
            title=(
                f"{name}: {plural(len(sheets), 'full-screen blended draw')} {verb(len(sheets), 'changes', 'change')}"
                f" nothing on {share(idle / fragments)} of the area"
            ),
            why="The fragments are shaded and blended, but no colour buffer changes.",
            steps=sorted(sheets),
            evidence={
                "fragments blended": fragments,
                "blended without effect": idle,
                "coverage of the target": round(fragments / area, 2),
            },
            estimate_ms=case.weighted({s: r.idle / max(r.fragments, 1) for s, r in sheets.items()}),
            how="each step's part of the pass's time, by its share of fragments that changed nothing",
            price="geometry that fits the visible part, or an early discard where the effect is empty",
            conditions="what is empty in this frame may not be in the next",
            refused="the visible shape is not in the frame: cutting the layer needs new geometry",
        )
