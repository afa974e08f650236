"""Blended sheets over much of the target that change little of it."""

from __future__ import annotations

from collections.abc import Iterator

from wendascope.advice.findings._registry import Case, Finding, finding
from wendascope.advice.rule import Effort, Rule, Side
from wendascope.analysis.geometry.drawn import StepDrawn
from wendascope.frame.remedy import Remedy
from wendascope.texts import plural, share, verb

_LEAST_AREA = 0.1
_LEAST_IDLE = 0.3
_LEAST_CUT = 0.1
"""Of a sheet's area that a rectangle round its effect must cut off before that is worth trying."""


@finding(Rule("blend-without-effect", "Overdraw", Side.GPU, Effort.ASSET))
def blends_without_effect(case: Case) -> Iterator[Finding]:
    """Blended full-screen draws that change nothing: in a part that a rectangle cuts off, or all over."""
    for index in range(len(case.names)):
        target = case.frame.passes.targets[index]
        area = max(target.width * target.height, 1)
        sheets = {
            step: row for step, row in case.rows(index)
            if row.kind == "blended" and row.survivors >= _LEAST_AREA * area and row.idle >= _LEAST_IDLE * row.survivors
        }  # fmt: skip
        cut = {step: _cut(row) for step, row in sheets.items()}
        tight = {s: row for s, row in sheets.items() if cut[s] >= _LEAST_CUT}
        rest = {s: row for s, row in sheets.items() if s not in tight}
        if tight:
            yield _finding(case, index, tight, area, {s: cut[s] for s in tight})
        if rest:
            yield _finding(case, index, rest, area, {}, "-spread" if tight else "")


def _cut(row: StepDrawn) -> float:
    """The part of a sheet that lies outside the rectangle round what it changes; 0 where that is not known."""
    if row.effect is None or row.fragments <= 0:
        return 0.0
    x0, y0, x1, y1 = row.effect
    inside = max(x1 - x0, 0) * max(y1 - y0, 0)
    return max(0.0, min(1.0 - inside / row.fragments, row.idle / row.fragments))


def _finding(
    case: Case, index: int, sheets: dict[int, StepDrawn], area: int, cut: dict[int, float], ending: str = ""
) -> Finding:
    fragments = sum(r.survivors for r in sheets.values())
    idle = sum(r.idle for r in sheets.values())
    steps = sorted(sheets)
    boxes = [sheets[s].effect or (0, 0, 0, 0) for s in steps] if cut else []
    nowhere = bool(cut) and all(x0 >= x1 for x0, _, x1, _ in boxes)
    evidence: dict[str, int | float | str] = {
        "fragments blended": fragments,
        "blended without effect": idle,
        "coverage of the target": round(fragments / area, 2),
    }
    if len(boxes) == 1 and not nowhere:
        x0, y0, x1, y1 = boxes[0]
        evidence["all it changes lies in"] = f"{x1 - x0} x {y1 - y0} at {x0}, {y0} from the lower left"
    if nowhere:
        price, refused = "none in this frame", ""
    elif cut:
        price, refused = "geometry or a scissor rectangle that fits the visible part", ""
    else:
        price = "geometry that fits the visible part, or an early discard where the effect is empty"
        refused = "what the draws change is spread over their area: cutting it out needs new geometry"
    return Finding(
        id=f"blend-without-effect-{index}{ending}",
        rule="blend-without-effect",
        title=(
            f"{case.names[index]}: {plural(len(sheets), 'full-screen blended draw')}"
            f" {verb(len(sheets), 'changes', 'change')} nothing on {share(idle / fragments)} of the area"
        ),
        why="The fragments are shaded and blended, but no colour buffer changes.",
        steps=steps,
        evidence=evidence,
        estimate_ms=case.weighted(cut or {s: r.idle / max(r.fragments, 1) for s, r in sheets.items()}),
        how="each step's part of the pass's time, by its share of fragments "
        + ("outside the rectangle round what it changes" if cut else "that changed nothing"),
        price=price,
        conditions="what is empty in this frame may not be in the next",
        remedy=Remedy("clip", steps, boxes=boxes) if cut else None,
        refused=refused,
    )
