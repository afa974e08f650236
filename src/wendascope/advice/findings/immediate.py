"""Draws given vertex by vertex that could be one."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from wendascope.advice.causes import IMMEDIATE
from wendascope.advice.findings._registry import Case, Facts, Finding, finding
from wendascope.advice.rule import Effort, Rule, Side
from wendascope.analysis.guidelines import guidelines
from wendascope.frame.remedy import Part, Remedy
from wendascope.texts import plural

JOIN = "join"


@finding(Rule("immediate-draws", "Batching", Side.CPU, Effort.SUBMISSION, cause=IMMEDIATE, joins_draws=True))
def immediate_draws(case: Case) -> Iterator[Finding]:
    """Pairs of glBegin and glEnd in a row that share all of their state."""
    frame = case.frame
    runs = frame.joinable_runs
    for index, name in enumerate(case.names):
        mine = [run for run in runs if int(frame.passes.of_step[run[0]]) == index]
        saved = sum(len(run) - 1 for run in mine)
        if saved < guidelines().batches.least_saved:
            continue
        steps = [step for run in mine for step in run]
        vertices = int(np.asarray(frame.steps.vertices)[steps].sum())
        gone = [step for run in mine for step in run[1:]]
        pairs = float(frame.call_ms[frame.steps.begin[gone]].sum() + frame.call_ms[frame.steps.call[gone]].sum())
        yield Finding(
            id=f"immediate-draws-{index}",
            rule="immediate-draws",
            title=f"{name}: {len(steps):,} glBegin/glEnd pairs share their state; {plural(len(mine), 'draw')} would do",
            why=(
                "Nothing but colours, normals, coordinates and materials changes between them. One pair can hold all"
                " their vertices; a vertex buffer holds them without a call per vertex."
            ),
            steps=steps,
            evidence={"pairs now": len(steps), "pairs then": len(mine), "vertices": vertices},
            estimate_ms=pairs,
            how="CPU time of the calls that go, as recorded",
            price="strips, fans and polygons become triangles, which repeats vertices",
            conditions="none: the order of all triangles stays",
            remedy=Remedy("join-immediate", steps, parts=[Part(JOIN, run) for run in mine]),
            facts=Facts(name, len(steps), len(mine), submit_ms=pairs),
        )
