"""Objects that hold the same, byte for byte."""

from __future__ import annotations

from collections.abc import Iterator

from wendascope.advice.causes import STORED
from wendascope.advice.findings._registry import Case, Finding, finding
from wendascope.advice.rule import Effort, Rule, Side
from wendascope.frame.memory import MemoryItem, MemoryKind
from wendascope.frame.remedy import Remedy
from wendascope.texts import listed, memory, plural

_LEAST_SAVED = 16 << 10
_ALONE = 6
_NAMED = 4


@finding(Rule("same-contents", "Memory", Side.MEMORY, Effort.ASSET, cause=STORED))
def same_contents(case: Case) -> Iterator[Finding]:
    """Textures and buffers of which the frame needs one: what it writes itself is not looked at."""
    groups: dict[tuple[str, str], list[MemoryItem]] = {}
    for item in case.frame.memory:
        if item.hash and item.size and item.stays and item.kind in (MemoryKind.TEXTURE, MemoryKind.BUFFER):
            groups.setdefault((item.object_class, item.hash), []).append(item)
    several = [items for items in groups.values() if len(items) > 1 and not _blank(case, items[0])]
    several.sort(key=lambda items: -_saved(items))
    alone = sum(_saved(items) >= _LEAST_SAVED for items in several[:_ALONE])
    for items in several[:alone]:
        yield _finding(items)
    rest = several[alone:]
    saved = sum(_saved(items) for items in rest)
    if saved >= _LEAST_SAVED:
        steps = sorted({int(step) for items in rest for item in items for step in item.steps})
        yield Finding(
            id="same-contents-more",
            rule="same-contents",
            title=f"{plural(len(rest), 'more set')} of objects with the same contents: {memory(saved)} less",
            why="Each set holds the same bytes in the same format.",
            steps=steps,
            evidence={"sets": len(rest), "objects": sum(len(items) for items in rest), "bytes saved": saved},
            estimate_ms=None,
            how="counted",
            price="none while nothing writes one of them",
            conditions="they are shared, not copied, where they are loaded",
            refused="of so many sets only the largest are tried",
            less_bytes=saved,
        )


def _saved(items: list[MemoryItem]) -> int:
    """Bytes of all but one."""
    return (len(items) - 1) * items[0].size


def _finding(items: list[MemoryItem]) -> Finding:
    first, saved = items[0], _saved(items)
    names = [item.title for item in items]
    shown = listed(names if len(names) <= _NAMED else [*names[: _NAMED - 1], f"{len(names) - _NAMED + 1} others"])
    used = [item for item in items if len(item.steps)]
    steps = sorted({int(step) for item in items for step in item.steps})
    textures = first.object_class == "texture" and len(used) > 1
    refused = (
        ""
        if textures
        else "of a buffer nothing else changes: draws read the same bytes elsewhere"
        if first.object_class == "buffer"
        else "the frame uses one of them at most"
    )
    return Finding(
        id=f"same-contents-{first.object_class}-{first.name}",
        rule="same-contents",
        title=f"{shown} hold the same: {memory(saved)} less with one of them",
        why="Contents, size and format are equal byte for byte. Draws that use one of them can also share state.",
        steps=steps,
        evidence={"objects": len(items), "bytes of each": first.size, "bytes saved": saved},
        estimate_ms=None,
        how="counted; contents are compared by their hashes",
        price="none while nothing writes one of them",
        conditions="they are loaded once and shared",
        remedy=Remedy("one-texture", steps, textures=[item.name for item in used]) if textures else None,
        refused=refused,
        less_bytes=saved,
    )


def _blank(case: Case, item: MemoryItem) -> bool:
    """Whether a buffer holds nothing but zeros: reserved, and not filled yet."""
    data = case.frame.buffer_bytes(item.name) if item.object_class == "buffer" else None
    return data is not None and data.count(0) == len(data)
