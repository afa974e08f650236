"""Opaque steps that are drawn back to front, so that far things are shaded and then covered."""

from __future__ import annotations

from collections.abc import Iterator

from wendascope.advice.causes import ORDER
from wendascope.advice.findings._registry import Case, Facts, Finding, finding
from wendascope.advice.rule import Effort, Rule, Side, Verify
from wendascope.frame.remedy import Remedy
from wendascope.frame.uses import FAR_FIRST, NEAR_FIRST

_LEAST_SHARE = 0.05
"""Of a run's fragments, covered later: less is not worth an order."""
_LEAST_FRAGMENTS = 5000


@finding(Rule("back-to-front", "Overdraw", Side.GPU, Effort.SUBMISSION, Verify.FRAGMENTS, cause=ORDER))
def back_to_front(case: Case) -> Iterator[Finding]:
    """Runs of opaque draws that shade less when nearer ones come first."""
    for index, name in enumerate(case.names):
        for number, run in enumerate(_runs(case, index)):
            rows = case.drawn.steps
            # what writes depth alone shades nothing: a pre-pass loses nothing by its order
            shading = [s for s in run if not case.frame.uses.writes_no_colour[s]]
            fragments = sum(max(rows[s].fragments, 0) for s in shading)
            covered = sum(max(rows[s].fragments - rows[s].survivors, 0) for s in shading)
            if covered < _LEAST_FRAGMENTS or covered < _LEAST_SHARE * fragments:
                continue
            sign = -1.0 if rows[run[0]].depth_func in FAR_FIRST else 1.0
            depths = {s: rows[s].depth for s in run}
            order = sorted(run, key=lambda s: 2.0 if depths[s] is None else sign * (depths[s] or 0.0))
            if order == run:
                continue
            yield Finding(
                id=f"back-to-front-{index}" + (f"-{number}" if number else ""),
                rule="back-to-front",
                title=f"{name}: {len(run):,} opaque draws are not drawn front to back",
                why=(
                    "Fragments that pass the depth test are shaded and then covered by nearer steps that come later. "
                    "Drawn nearest first, the depth test would have rejected them before shading."
                ),
                steps=run,
                evidence={"fragments passing now": fragments, "covered later": covered},
                estimate_ms=case.weighted(
                    {
                        s: rows[s].fragments and max(rows[s].fragments - rows[s].survivors, 0) / rows[s].fragments
                        for s in shading
                        if rows[s].fragments > 0
                    }
                ),
                how=(
                    "each step's part of the pass's time, by its share of the fragments that the better order saves;"
                    " the order is by the middle depth of each step"
                ),
                price="sorting on the CPU each frame; more program and texture switches",
                conditions="no step of the run reads what another writes; depth test and depth write stay on",
                remedy=Remedy("reorder-steps", run, order),
                facts=Facts(name, covered=covered),
            )


def _runs(case: Case, index: int) -> Iterator[list[int]]:
    """Runs of steps of one pass that may change places: opaque, tested and written by depth, with one depth
    function.
    """
    run: list[int] = []
    for step in case.steps_of(index):
        row = case.drawn.steps[step]
        drawn = case.frame.steps.kind_name(step) == "draw"
        hidden = drawn and row.fragments == 0
        fits = (
            drawn
            and row.depth_test
            and row.depth_write
            and row.depth_func in (*NEAR_FIRST, *FAR_FIRST)
            and (hidden or row.kind in ("opaque", "depth"))
        )
        if fits and (not run or case.drawn.steps[run[0]].depth_func == row.depth_func):
            run.append(step)
            continue
        if len(run) > 1:
            yield run
        run = [step] if fits else []
    if len(run) > 1:
        yield run
