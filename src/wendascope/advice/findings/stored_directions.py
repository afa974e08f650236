"""Normal maps that store three channels, of which two tell the third."""

from __future__ import annotations

from collections.abc import Iterator

from wendascope.advice.causes import STORED
from wendascope.advice.findings._registry import Case, Finding, finding
from wendascope.advice.rule import Effort, Rule, Side
from wendascope.frame.memory import MemoryItem
from wendascope.frame.remedy import Remedy
from wendascope.frame.stored_image import StoredImage
from wendascope.texts import memory

_LEAST_SAVED = 16 << 10
_MOST_ERROR = 6.0
"""Of 255: what the third channel may differ from the one that is rebuilt, in any texel."""
_RIM = 0.95
"""Vectors that lie flatter are left alone: there the third part hangs on the last bit of the others."""


@finding(Rule("stored-directions", "Memory", Side.MEMORY, Effort.SHADER, cause=STORED))
def stored_directions(case: Case) -> Iterator[Finding]:
    """One for each texture that the frame reads, and does not write."""
    for facts in case.texture_facts:
        item = facts.item
        if item.size < 2 * _LEAST_SAVED or facts.third_error > _MOST_ERROR or facts.flattest > _RIM:
            continue
        image = case.frame.stored_image(item.name)
        if image is not None:
            yield _finding(item, image, facts.third_error)


def _finding(item: MemoryItem, image: StoredImage, error: float) -> Finding:
    steps = [int(step) for step in item.reads]
    then = item.size * 2 // len(image.channels)
    return Finding(
        id=f"stored-directions-{item.name}",
        rule="stored-directions",
        title=f"{item.title} holds unit vectors in three channels; two tell the third: {memory(item.size - then)} less",
        why="Blue is what makes red, green and blue a vector of length 1. Shaders rebuild it with one square root.",
        steps=steps,
        evidence={
            "bytes now": item.size,
            "bytes as RG8": then,
            "bytes as BC5": then // 2,
            "largest error of blue, of 255": round(error, 1),
        },
        estimate_ms=None,
        how="all texels of the first level were rebuilt; fewer bytes against more arithmetic, a proof measures",
        price="a square root for each sample, and shaders that read it another way",
        conditions="whatever else its sampler reads is stored the same way",
        remedy=Remedy("two-part-directions", steps, textures=[item.name]),
        less_bytes=item.size - then,
    )
