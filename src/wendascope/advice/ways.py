"""The ways in which the draws of a batch could be one, side by side."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from wendascope.advice.findings import Finding
from wendascope.advice.findings.batching import batch_remedy
from wendascope.analysis.draws.batches import Batch, Batches
from wendascope.analysis.draws.groups import all_same, texture_ways
from wendascope.analysis.draws.sharing import Sharing
from wendascope.analysis.guidelines import guidelines
from wendascope.frame.numbers import Ints
from wendascope.frame.remedy import ARRAY, ATLAS, INSTANCE, MERGE, MULTI_DRAW, SAME, UNITS

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
_GATHERED = {
    ARRAY: (", texture array", "; a texture of another size, format or filter"),
    ATLAS: (", atlas", "; a texture that repeats, or fits on no page"),
    UNITS: (", textures side by side", "; more textures than texture units"),
}


@dataclass(frozen=True)
class Way:
    """One way for one batch."""

    how: str
    textures: str
    """How textures that differ come together, as `groups` names it."""
    name: str
    moves: str
    """What may still move without making it anew."""
    breaks: str
    """What of the program would end it."""
    finding: Finding
    """To be proved like any other."""


def ways_of(sharing: Sharing, found: Batches, batch: Batch) -> list[Way]:
    """Every way that the draws of a batch allow, its own first."""
    steps: Ints = np.array(batch.steps, np.int64)
    kinds = [batch.how]
    if all_same(sharing.geometry[steps]):
        kinds.append(INSTANCE)
    if batch.how != MERGE and int(sharing.primitive[steps].max()) <= 2 and sharing.inputs_of(steps[0]):
        kinds.append(MERGE)
    gathered = texture_ways(sharing, guidelines().batches, steps) if batch.gather != SAME else []
    pairs = [(how, batch.gather) for how in kinds] + [(batch.how, gather) for gather in gathered]
    return [_way(found, batch, how, textures) for how, textures in dict.fromkeys(pairs)]


def _way(found: Batches, batch: Batch, how: str, textures: str) -> Way:
    name, moves, breaks = _WORDS[how]
    more_name, more_breaks = _GATHERED.get(textures, ("", ""))
    name, breaks = name + more_name, breaks + more_breaks
    own = (how, textures) == (batch.how, batch.gather)
    finding = Finding(
        # the plan's own way is what the batch's finding tries
        id=f"{'batch' if own else f'way-{how}-{textures}'}-{batch.pass_index}-{batch.steps[0]}",
        rule="mergeable",
        title=f"{batch.label} as {name}",
        why="As the plan has it." if own else f"The draws of {batch.label} in another way than the plan's.",
        steps=batch.steps,
        evidence={"draws now": len(batch.steps), "draws then": len(batch.parts)},
        estimate_ms=None,
        how="",
        price=f"moves still: {moves}",
        conditions=f"broken by: {breaks}",
        # a way of another kind meets other limits, which the proof names where they matter
        remedy=batch_remedy(found, [batch], how, textures),
    )
    return Way(how, textures, name, moves, breaks, finding)
