"""Textures that hold nearly the same, as two exports of one picture do."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from wendascope.advice.causes import STORED
from wendascope.advice.findings._registry import Case, Finding, finding
from wendascope.advice.rule import Effort, Rule, Side
from wendascope.analysis.memory.texture_facts import TextureFacts
from wendascope.frame.memory import MemoryItem
from wendascope.frame.remedy import Remedy
from wendascope.frame.stored_image import StoredImage
from wendascope.texts import memory

_LEAST_BYTES = 16 << 10
_LEAST_PSNR = 40.0
"""dB between two textures: below it they are different pictures."""
_MOST_APART = 24
"""Of 255, in any texel: a sign that stands in one of them only differs by more."""
_PARTS = 64
"""Means of so many parts of a texture are compared first."""
_PART_APART = 3.0
"""Of 255: how far they may lie apart."""
_MOST_PAIRS = 8


@finding(Rule("near-contents", "Memory", Side.MEMORY, Effort.ASSET, cause=STORED))
def near_contents(case: Case) -> Iterator[Finding]:
    """Pairs of one size and format with eight bits a channel, which the frame reads and does not write."""
    groups: dict[tuple[object, ...], list[TextureFacts]] = {}
    for facts in case.texture_facts:
        if facts.means is not None and facts.item.size >= _LEAST_BYTES and facts.item.used:
            groups.setdefault(facts.shape, []).append(facts)
    found = 0
    for textures in groups.values():
        for at, first in enumerate(textures):
            for second in textures[at + 1 :]:
                assert first.means is not None and second.means is not None
                if found < _MOST_PAIRS and np.abs(first.means - second.means).max() <= _PART_APART:
                    images = [case.frame.stored_image(facts.item.name) for facts in (first, second)]
                    if images[0] is None or images[1] is None:
                        continue
                    psnr, largest = _apart(images[0], images[1])
                    if 0 < largest <= _MOST_APART and psnr >= _LEAST_PSNR:
                        found += 1
                        yield _finding(first.item, second.item, psnr, largest)


def _apart(first: StoredImage, second: StoredImage) -> tuple[float, int]:
    """(PSNR, dB, and largest difference of a channel) over all levels; no difference is an infinite PSNR."""
    squares, count, largest = 0.0, 0, 0
    for one, other in zip(first.levels, second.levels, strict=True):
        pair = [np.frombuffer(level, np.uint8).astype(np.int32) for level in (one, other)]
        difference = np.abs(pair[0] - pair[1])
        squares, count = squares + float((difference**2).sum()), count + len(difference)
        largest = max(largest, int(difference.max(initial=0)))
    return (10.0 * float(np.log10(255.0**2 * count / squares)) if squares else np.inf), largest


def _finding(first: MemoryItem, second: MemoryItem, psnr: float, largest: int) -> Finding:
    steps = sorted({int(step) for item in (first, second) for step in item.reads})
    return Finding(
        id=f"near-contents-{first.name}-{second.name}",
        rule="near-contents",
        title=f"{first.title} and {second.title} hold nearly the same: {memory(second.size)} less with one of them",
        why="They are of one size and format, and their texels differ as little as in two exports of one picture.",
        steps=steps,
        evidence={"PSNR between them, dB": round(psnr, 1), "largest difference of 255": largest},
        estimate_ms=None,
        how="all texels of all levels were compared",
        price="the second looks a little different",
        conditions="the difference is none that is meant",
        remedy=Remedy("near-texture", steps, textures=[first.name, second.name]),
        less_bytes=second.size,
    )
