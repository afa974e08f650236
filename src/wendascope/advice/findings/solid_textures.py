"""Textures of one colour all over."""

from __future__ import annotations

from collections.abc import Iterator

from wendascope.advice.causes import STORED
from wendascope.advice.findings._registry import Case, Finding, finding
from wendascope.advice.rule import Effort, Rule, Side
from wendascope.frame.remedy import Remedy
from wendascope.texts import listed, memory, plural, verb

_NAMED = 4


@finding(Rule("solid-texture", "Memory", Side.MEMORY, Effort.ASSET, cause=STORED))
def solid_textures(case: Case) -> Iterator[Finding]:
    """All of them together: those that the frame reads, and writes nothing into."""
    found = [facts.item for facts in case.texture_facts if facts.solid and facts.item.used]
    if not found:
        return
    found.sort(key=lambda item: -item.size)
    saved = sum(item.size for item in found)
    steps = sorted({int(step) for item in found for step in item.reads})
    names = [item.title for item in found]
    shown = listed(names if len(names) <= _NAMED else [*names[: _NAMED - 1], f"{len(names) - _NAMED + 1} others"])
    yield Finding(
        id="solid-textures",
        rule="solid-texture",
        title=(
            f"{plural(len(found), 'texture')} {verb(len(found), 'is', 'are')} of one colour all over, {shown}:"
            f" {memory(saved)} less"
        ),
        why="All texels of all levels are the same. A texture of one texel gives that too, and so does a constant.",
        steps=steps,
        evidence={"textures": len(found), "bytes now": saved},
        estimate_ms=None,
        how="counted; what the fetches save, a proof measures",
        price="none",
        conditions="their contents stay what they are in this frame, and no shader asks for their size",
        remedy=Remedy("single-texel", steps, textures=[item.name for item in found]),
        less_bytes=saved,
    )
