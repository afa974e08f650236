"""The fewest draws of a pass, all its batches in one order."""

from __future__ import annotations

from collections.abc import Iterator

from wendascope.analysis.findings._registry import CALLS_GONE, Case, Finding, finding
from wendascope.analysis.findings.batching import batch_remedy, cpu_ms, step_ms
from wendascope.analysis.guidelines import guidelines
from wendascope.texts import plural


@finding("draw-plan")
def draw_plan(case: Case) -> Iterator[Finding]:
    """Passes in which several batches together leave much fewer draws."""
    found = case.batches
    for index, name in enumerate(case.names):
        batches = [b for b in found.batches if b.pass_index == index]
        saved = sum(b.saved for b in batches)
        if len(batches) < 2 or saved < guidelines().batches.least_saved:
            continue
        now, least = found.draws_now(index), found.least(index)
        then = now - saved
        here = [b for b in batches if not b.always]
        remedy = batch_remedy(found, batches)
        gpu, cpu = step_ms(case, batches), cpu_ms(case, batches)
        bound = (
            "no order of the same draws has fewer"
            if least == then
            else f"no order of the same draws has fewer than {least}"
        )
        yield Finding(
            id=f"draw-plan-{index}",
            rule="draw-plan",
            page="Batching",
            title=f"{name}: {plural(now, 'draw')} could be {then:,}; {bound}",
            why=(
                "Draws that share program and state are brought next to each other, as far as nothing comes under what"
                " it must lie over, and each row of them becomes one draw."
            ),
            steps=remedy.steps,
            evidence={
                "draws now": now,
                "draws then": then,
                "fewest by the chains of draws that must keep their order": least,
                "batches": len(batches),
                "of them allowed by state alone": len(batches) - len(here),
                CALLS_GONE: round(cpu, 3),
            },
            estimate_ms=gpu if gpu is not None else cpu,
            how="as for each batch",
            price="the price of each batch; draws sorted by it",
            conditions=(
                f"{plural(len(here), 'batch', 'batches')} of it only while things lie over each other as in this"
                " picture; a layer number or a sort key guarantees it"
                if here
                else "state alone allows it; fragments of equal depth may differ"
            ),
            remedy=remedy,
        )
