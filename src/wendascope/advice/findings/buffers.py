"""Buffers of which little is fetched, and indices that are wider than their meshes need."""

from __future__ import annotations

from collections.abc import Iterator

from wendascope.advice.findings._registry import Case, Finding, finding
from wendascope.advice.rule import Effort, Rule, Side, Verify
from wendascope.frame.memory import Fetched, MemoryItem
from wendascope.frame.remedy import Remedy
from wendascope.texts import memory, plural, share

_LEAST_SAVED, _MOST_PART, _ALONE = 16 << 10, 0.5, 5
_WIDE, _NARROW_LIMIT = 4, 0xFFFF


def _known(case: Case) -> Iterator[tuple[MemoryItem, Fetched]]:
    for item in case.frame.memory:
        found = case.frame.fetched.get(item.name) if item.object_class == "buffer" else None
        if found is not None:
            yield item, found


@finding(Rule("mostly-unread-buffer", "Memory", Side.MEMORY, Effort.ASSET, Verify.COUNTED))
def mostly_unread(case: Case) -> Iterator[Finding]:
    """Vertex and index buffers of which the draws of the frame fetch less than half."""
    rows = [
        (item, found)
        for item, found in _known(case)
        if found.bytes < _MOST_PART * item.size and item.size - found.bytes >= _LEAST_SAVED
    ]
    rows.sort(key=lambda row: row[1].bytes - row[0].size)
    for item, found in rows[:_ALONE]:
        yield Finding(
            id=f"mostly-unread-buffer-{item.name}",
            rule="mostly-unread-buffer",
            title=f"{item.title}: draws fetch {share(found.bytes / item.size, 1)} of {memory(item.size)}",
            why="What is left was taken for draws that this frame does not have, or is room that nothing fills.",
            steps=[int(step) for step in item.reads],
            evidence={"bytes": item.size, "bytes fetched": found.bytes, "bytes not fetched": item.size - found.bytes},
            estimate_ms=None,
            how="counted from the ranges and indices of all draws",
            price="none for room that is never filled; else loading it when it is needed",
            conditions="other frames do not fetch the rest",
            less_bytes=item.size - found.bytes,
            refused="memory that nothing fetches changes nothing in a replay: there is nothing to measure",
        )


@finding(Rule("wide-indices", "Memory", Side.MEMORY, Effort.ASSET))
def wide_indices(case: Case) -> Iterator[Finding]:
    """Indices of 32 bits none of which needs more than 16."""
    rows = [
        (item, found)
        for item, found in _known(case)
        if found.index_bytes == _WIDE and found.largest_index < _NARROW_LIMIT and set(item.read_parts) == {"indices"}
    ]
    saved = sum(item.size // 2 for item, _ in rows)
    if saved < _LEAST_SAVED:
        return
    rows.sort(key=lambda row: -row[0].size)
    steps = sorted({int(step) for item, _ in rows for step in item.reads})
    yield Finding(
        id="wide-indices",
        rule="wide-indices",
        title=f"{plural(len(rows), 'index buffer')} of 32 bits could have 16: {memory(saved)} less",
        why=(
            f"The largest index is {max(found.largest_index for _, found in rows):,}; 16 bits reach to 65,534, with one"
            " more to begin primitives anew."
        ),
        steps=steps,
        evidence={
            "buffers": len(rows),
            "bytes now": sum(item.size for item, _ in rows),
            "bytes fetched": sum(found.bytes for _, found in rows),
            "bytes saved": saved,
        },
        estimate_ms=None,
        how="counted from the indices of all draws; what the smaller fetches save, a proof measures",
        price="meshes of more vertices keep 32 bits",
        conditions="the rest of each buffer, which this frame does not draw, needs no more either",
        remedy=Remedy("short-indices", steps, names=[str(item.name) for item, _ in rows]),
        less_bytes=saved,
    )
