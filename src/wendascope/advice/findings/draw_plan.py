"""The fewest draws of the frame, and of each pass: all batches in one order."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from wendascope.advice.findings._registry import Case, Facts, Finding, finding
from wendascope.advice.findings.batching import batch_remedy, cpu_ms, own_ms, step_ms
from wendascope.advice.rule import Effort, Rule, Side
from wendascope.analysis.draws.batches import Batch
from wendascope.analysis.guidelines import guidelines
from wendascope.texts import plural

WHOLE_FRAME = "draw-plan"
"""Id of the plan of all passes together."""


@finding(Rule("draw-plan", "Batching", Side.GPU, Effort.SUBMISSION, joins_draws=True, whole=True))
def draw_plan(case: Case) -> Iterator[Finding]:
    """Several batches together, which leave much fewer draws: of the frame, and of each pass that has some."""
    found, least = case.batches, guidelines().batches.least_saved
    by_pass = {index: [b for b in found.batches if b.pass_index == index] for index in range(len(case.names))}
    passes = [index for index, batches in by_pass.items() if batches]
    every = [batch for index in passes for batch in by_pass[index]]
    if len(passes) > 1 and sum(b.saved for b in every) >= least:
        yield _plan(case, WHOLE_FRAME, "", passes, every)
    for index in passes:
        if len(by_pass[index]) > 1 and sum(b.saved for b in by_pass[index]) >= least:
            yield _plan(case, f"draw-plan-{index}", case.names[index], [index], by_pass[index])


def _plan(case: Case, identity: str, name: str, passes: Sequence[int], batches: list[Batch]) -> Finding:
    found = case.batches
    now, least = sum(map(found.draws_now, passes)), sum(map(found.least, passes))
    then = now - sum(b.saved for b in batches)
    here = [b for b in batches if not b.always]
    remedy = batch_remedy(found, batches)
    gpu, cpu = step_ms(case, batches), cpu_ms(case, batches)
    bound = (
        "no order of the same draws has fewer"
        if least == then
        else f"no order of the same draws has fewer than {least}"
    )
    where = f"{name}: " if name else ""
    return Finding(
        id=identity,
        rule="draw-plan",
        title=f"{where}{plural(now, 'draw')} could be {then:,}, in {plural(len(batches), 'batch', 'batches')}; {bound}",
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
            "CPU time of the calls that go, ms": round(cpu, 3),
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
        facts=Facts(name, now, then, submit_ms=cpu, own_ms=own_ms(case, batches)),
    )
