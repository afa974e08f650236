"""Compressed textures whose blocks hold an alpha that is 1 everywhere."""

from __future__ import annotations

from collections.abc import Iterator

from wendascope.advice.causes import STORED
from wendascope.advice.findings._registry import Case, Finding, finding
from wendascope.advice.rule import Effort, Rule, Side
from wendascope.analysis.memory.memory_use import CompressedTexture
from wendascope.analysis.memory.traffic import moved
from wendascope.frame.memory import MemoryItem
from wendascope.frame.remedy import Remedy
from wendascope.texts import memory, plural

_LEAST_SAVED = 16 << 10


@finding(Rule("opaque-blocks", "Memory", Side.MEMORY, Effort.ASSET, cause=STORED))
def opaque_blocks(case: Case) -> Iterator[Finding]:
    """Those that the frame uses in one finding, all others in another."""
    if case.memory_use is None:
        return
    items = {i.name: i for i in case.frame.memory if i.object_class == "texture"}
    found = [(items[r.texture], r) for r in case.memory_use.compressed if r.without_alpha and r.texture in items]
    for used in (True, False):
        rows = [(item, row) for item, row in found if item.used == used]
        if sum(item.size - row.bytes for item, row in rows) >= _LEAST_SAVED:
            yield _finding(case, rows, used)


def _finding(case: Case, rows: list[tuple[MemoryItem, CompressedTexture]], used: bool) -> Finding:
    now, then = sum(item.size for item, _ in rows), sum(row.bytes for _, row in rows)
    steps = sorted({int(step) for item, _ in rows for step in item.reads})
    words = " or ".join(sorted({row.word for _, row in rows}))
    names = [item.name for item, _ in rows]
    return Finding(
        id=f"opaque-blocks-{names[0]}",
        rule="opaque-blocks",
        title=(
            f"{plural(len(rows), 'compressed texture')}{'' if used else ' that this frame does not use'} with an alpha"
            f" of 1 everywhere: {memory(now - then)} less as {words}"
        ),
        why=(
            "Half of every block is alpha, and all of it says 1. Their colours alone take half the bytes, and are the"
            " same by the rules of the formats."
        ),
        steps=steps,
        evidence={
            "textures": len(rows),
            "bytes now": now,
            "bytes then": then,
            **moved(case.traffic, [item for item, _ in rows]),
        },
        estimate_ms=None,
        how="all blocks of all levels were decoded; what the smaller fetches save, a proof measures",
        price="none; drivers may round a mix of two colours by 1 of 255 otherwise",
        conditions="whatever else is loaded into them is opaque too",
        remedy=Remedy("opaque-blocks", steps, textures=names) if used else None,
        refused="" if used else "the frame does not use them",
        less_bytes=now - then,
    )
