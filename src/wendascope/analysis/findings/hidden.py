"""Steps of which nothing is to be seen at the end of their pass."""

from __future__ import annotations

from collections.abc import Iterator

from wendascope.analysis.findings._registry import Case, Finding, Remedy, finding


@finding("not-visible")
def hidden_steps(case: Case) -> Iterator[Finding]:
    for index, name in enumerate(case.names):
        covered, behind = [], []
        coloured = any(row.kind in ("opaque", "blended") for _, row in case.rows(index))
        for step, row in case.rows(index):
            if row.fragments > 0 and row.survivors == 0 and not (row.kind == "depth" and coloured):
                covered.append(step)
            elif row.fragments == 0 and row.covered > 0:
                behind.append(step)
        steps = sorted(covered + behind)
        if not steps:
            continue
        fragments = sum(case.drawn.steps[s].fragments for s in covered)
        yield Finding(
            id=f"not-visible-{index}", rule="not-visible", page="Overdraw",
            title=f"{_steps(len(steps))} of {name} {'is' if len(steps) == 1 else 'are'} not visible",
            why="Everything they draw is hidden behind other steps or covered by later ones before the pass ends.",
            steps=steps,
            evidence={
                "steps hidden behind others": len(behind), "steps covered later": len(covered), "fragments shaded and covered": fragments,
                "triangles": sum(max(case.drawn.steps[s].triangles, 0) for s in steps),
            },
            estimate_ms=case.time_of(steps), how="the part that these steps have in the time of their pass",
            price="culling work on the CPU, for example by what the frame before showed",
            conditions="holds for this view; what is hidden changes as the viewer moves",
            remedy=Remedy("drop-steps", steps),
        )  # fmt: skip


def _steps(count: int) -> str:
    return f"{count:,} step{'' if count == 1 else 's'}"
