"""Steps of which nothing is to be seen at the end of their pass."""

from __future__ import annotations

from collections.abc import Iterator

from wendascope.advice.causes import HIDDEN
from wendascope.advice.findings._registry import Case, Facts, Finding, finding
from wendascope.advice.rule import Effort, Rule, Side
from wendascope.analysis.geometry.drawn import StepDrawn
from wendascope.frame.remedy import Remedy
from wendascope.texts import plural, verb


def _title(where: str, count: int) -> str:
    return f"{plural(count, 'step')} of {where} {verb(count, 'is', 'are')} not visible"


@finding(Rule("not-visible", "Overdraw", Side.GPU, Effort.CODE, cause=HIDDEN, leaves_out=True, title=_title))
def hidden_steps(case: Case) -> Iterator[Finding]:
    """Steps of which nothing is left in the finished pass."""
    for index, name in enumerate(case.names):
        why = {step: reason for step, row in case.rows(index) if (reason := _reason(row, _coloured(case, index)))}
        steps = sorted(why)
        if not steps:
            continue
        count = {reason: sum(r == reason for r in why.values()) for reason in (BEHIND, COVERED, SCISSORED, DISCARDED)}
        yield Finding(
            id=f"not-visible-{index}",
            rule="not-visible",
            title=_title(name, len(steps)),
            why=_why([reason for reason, many in count.items() if many]),
            steps=steps,
            evidence={
                **{f"steps {reason}": many for reason, many in count.items() if many},
                "fragments shaded and covered": sum(
                    case.drawn.steps[s].fragments for s, r in why.items() if r == COVERED
                ),
                "triangles": sum(max(case.drawn.steps[s].triangles, 0) for s in steps),
            },
            estimate_ms=case.time_of(steps),
            how="share of the pass time that these draws take",
            price="culling work on the CPU, for example using the previous frame's visibility",
            conditions="valid for this view; visibility changes as the camera moves",
            remedy=Remedy("drop-steps", steps),
            facts=Facts(name),
        )


BEHIND, COVERED, SCISSORED, DISCARDED = (
    "hidden behind others",
    "covered later",
    "cut by the scissor",
    "discarded by their shader",
)
_SENTENCES = {
    BEHIND: "hidden behind steps that were drawn before", COVERED: "covered by later steps before the pass ends",
    SCISSORED: "outside the scissor rectangle", DISCARDED: "discarded by their own shader",
}  # fmt: skip


def _coloured(case: Case, index: int) -> bool:
    return any(row.kind in ("opaque", "blended") for _, row in case.rows(index))


def _reason(row: StepDrawn, coloured: bool) -> str:
    """Why nothing of a step is seen; empty where something is, or where it does more than draw."""
    if row.stencil or row.effects or row.fragments < 0:
        return ""
    if row.fragments > 0:
        return COVERED if row.survivors == 0 and not (row.kind == "depth" and coloured) else ""
    if row.covered <= 0:
        return ""
    return SCISSORED if row.scissored else BEHIND if row.depth_test else DISCARDED


def _why(reasons: list[str]) -> str:
    parts = [_SENTENCES[reason] for reason in reasons]
    return (
        "Everything they draw is "
        + (", or ".join(parts) if len(parts) < 3 else f"{', '.join(parts[:-1])}, or {parts[-1]}")
        + "."
    )
