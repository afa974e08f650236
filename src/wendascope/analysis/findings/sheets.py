"""Blended sheets over much of the target that change little of it."""

from __future__ import annotations

from collections.abc import Iterator

from wendascope.analysis.findings._registry import Case, Finding, finding

_LEAST_AREA = 0.1
_LEAST_IDLE = 0.3


@finding("idle-sheet")
def idle_sheets(case: Case) -> Iterator[Finding]:
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
            id=f"idle-sheet-{index}", rule="idle-sheet", page="Overdraw",
            title=f"{name}: {len(sheets)} blended sheet{'s change' if len(sheets) > 1 else ' changes'} nothing on {idle / fragments:.0%} of their area",
            why="The fragments were shaded and blended, and every colour buffer came out as it was.",
            steps=sorted(sheets),
            evidence={"fragments blended": fragments, "of them without any change": idle, "layers over the target": round(fragments / area, 2)},
            estimate_ms=case.weighted({s: r.idle / max(r.fragments, 1) for s, r in sheets.items()}),
            how="each step's part of the pass's time, by its share of fragments that changed nothing",
            price="geometry that follows what is to be seen, or an early discard where the effect is empty",
            conditions="what is empty in this frame may not be in the next",
            refused="the shape of what the sheet shows is not in the frame: cutting it is new geometry",
        )  # fmt: skip
