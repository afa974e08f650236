"""The ways in which the draws of a batch could be one, side by side."""

from __future__ import annotations

from dataclasses import dataclass

from wendascope.analysis.batches import Batch, Batches
from wendascope.analysis.findings import Finding
from wendascope.analysis.findings.batching import batch_remedy
from wendascope.analysis.groups import INSTANCE, MERGE, MULTI_DRAW, all_same
from wendascope.analysis.sharing import Sharing

_WORDS = {
    INSTANCE: (
        "instances",
        "each copy by its own data",
        "another mesh, shader, texture or state; more draws than a block of data holds",
    ),
    MERGE: (
        "merged vertices",
        "each part by its own data; their shape only by a new upload",
        "another shader, texture or state; vertices that change with every frame",
    ),
    MULTI_DRAW: ("one call of several ranges", "nothing by itself", "any value that differs between the ranges"),
}


@dataclass(frozen=True)
class Way:
    """One way for one batch."""

    how: str
    name: str
    moves: str
    """What may still move without making it anew."""
    breaks: str
    """What of the program would end it."""
    finding: Finding
    """To be proved like any other."""


def ways_of(sharing: Sharing, found: Batches, batch: Batch) -> list[Way]:
    """Every way that the draws of a batch allow, its own first."""
    steps = batch.steps
    kinds = [batch.how]
    if all_same(sharing.geometry[steps]):
        kinds.append(INSTANCE)
    if batch.how != MERGE and int(sharing.primitive[steps].max()) <= 2 and sharing.inputs_of(steps[0]):
        kinds.append(MERGE)
    return [_way(found, batch, how) for how in dict.fromkeys(kinds)]


def _way(found: Batches, batch: Batch, how: str) -> Way:
    name, moves, breaks = _WORDS[how]
    finding = Finding(
        # the plan's own way is what the batch's finding tries
        id=f"{'batch' if how == batch.how else f'way-{how}'}-{batch.pass_index}-{batch.steps[0]}",
        rule="batch",
        page="Batching",
        title=f"{batch.label} as {name}",
        why=f"The draws of {batch.label} in another way than the plan's."
        if how != batch.how
        else "As the plan has it.",
        steps=batch.steps,
        evidence={"draws now": len(batch.steps), "draws together": len(batch.parts)},
        estimate_ms=None,
        how="",
        price=f"moves still: {moves}",
        conditions=f"broken by: {breaks}",
        # a way of another kind meets other limits, which the proof names where they matter
        remedy=batch_remedy(found, [batch], how),
    )
    return Way(how, name, moves, breaks, finding)
