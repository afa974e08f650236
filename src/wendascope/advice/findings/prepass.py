"""Depth-only pre-passes that may not pay."""

from __future__ import annotations

from collections.abc import Iterator

from wendascope.advice.causes import ORDER
from wendascope.advice.findings._registry import Case, Finding, finding
from wendascope.advice.rule import Effort, Rule, Side
from wendascope.frame.remedy import Remedy
from wendascope.frame.roles import Role
from wendascope.frame.uses import Compare
from wendascope.texts import plural

_LEAST_STEPS = 2


@finding(Rule("depth-prepass", "Overdraw", Side.GPU, Effort.SUBMISSION, cause=ORDER))
def depth_prepass(case: Case) -> Iterator[Finding]:
    """Depth-only draws ahead of a pass that save less than they cost."""
    for index, name in enumerate(case.names):
        first, after = _prepass(case, index)
        if len(first) < _LEAST_STEPS or not after:
            continue
        drawn = case.drawn.steps
        yield Finding(
            id=f"depth-prepass-{index}",
            rule="depth-prepass",
            title=f"{name}: {plural(len(first), 'depth-only draw')} ahead of {plural(len(after), 'opaque draw')}",
            why=(
                "A depth-only pre-pass draws the geometry twice so that only visible fragments are shaded. "
                "It pays when shading is expensive and overdraw is high."
            ),
            steps=first,
            evidence={
                "triangles drawn twice": sum(max(drawn[s].triangles, 0) for s in first),
                "fragments shaded after it": sum(max(drawn[s].fragments, 0) for s in after),
            },
            estimate_ms=case.time_of(first),
            how=(
                "the part of the pre-pass in the time of its pass; what it saves later is not counted; the proof"
                " measures both"
            ),
            price="more fragments shaded in the steps that follow",
            conditions="the steps that follow write depth themselves",
            remedy=Remedy("no-prepass", first, after),
        )


def _prepass(case: Case, index: int) -> tuple[list[int], list[int]]:
    """(steps that draw depth alone, opaque steps after them against that depth), in one pass or in a pre-pass and the
    pass that it is for. None where nothing is shaded: a shadow map is no pre-pass.
    """
    frame = case.frame
    own = set(frame.resource_flow.targets[index])
    passes = [index]
    if frame.pass_roles[index].role == Role.PREPASS:
        passes = [p for p in range(index + 1, len(case.names)) if own & set(frame.resource_flow.targets[p])][:1]
        first = [step for step, row in case.rows(index) if row.depth_write and row.depth_test]
    else:
        first = [step for step, row in case.rows(index) if row.kind == "depth" and row.depth_write]
    after = [
        (step, row)
        for p in passes
        if not frame.passes.targets[p].framebuffer or any(a.is_colour for a in frame.passes.targets[p].attachments)
        for step, row in case.rows(p)
        if (row.kind == "opaque" or (row.fragments == 0 and not row.kind))
        and row.depth_test
        and row.depth_func in (Compare.EQUAL, Compare.LESS_OR_EQUAL)
        and first
        and step > first[0]
    ]
    return first, [step for step, _ in after] if any(row.kind == "opaque" for _, row in after) else []
