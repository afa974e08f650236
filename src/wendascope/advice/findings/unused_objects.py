"""Objects that the frame, or a whole sequence, has no use for."""

from __future__ import annotations

from collections.abc import Iterator

from wendascope.advice.causes import STORED
from wendascope.advice.findings._registry import Case, Finding, finding
from wendascope.advice.rule import Effort, Rule, Side, Verify
from wendascope.analysis.memory.sums import is_unused, total
from wendascope.frame.memory import MemoryItem
from wendascope.texts import memory, plural, share, verb

_LEAST_BYTES, _LEAST_PART = 64 << 10, 0.01
_NAMED = 3


@finding(Rule("unused-objects", "Memory", Side.MEMORY, Effort.ASSET, Verify.COUNTED, cause=STORED))
def unused_objects(case: Case) -> Iterator[Finding]:
    """By kind: what is kept and neither drawn with, drawn into, uploaded nor read back."""
    whole = total(case.frame.memory)
    groups: dict[str, list[MemoryItem]] = {}
    others = case.other_frames
    unused = {(kind, name) for kind, name in others.unused} if others else set()
    for item in case.frame.memory:
        if is_unused(item) and (others is None or (item.object_class, item.name) in unused):
            groups.setdefault(item.kind.value, []).append(item)
    for kind, items in groups.items():
        size = total(items)
        if size < _LEAST_BYTES or size < _LEAST_PART * whole:
            continue
        items.sort(key=lambda item: -item.size)
        count = len(items)
        named = ", ".join(f"{item.title} ({memory(item.size)})" for item in items[:_NAMED])
        named += " ..." if count > _NAMED else ""
        where = f"any of {others.frames} frames" if others else "this frame"
        yield Finding(
            id=f"unused-objects-{kind.replace(' ', '-')}",
            rule="unused-objects",
            title=f"{plural(count, kind)} {verb(count, 'is', 'are')} not used in {where}: {memory(size)}",
            why=f"Nothing draws with them, draws into them, writes or reads them: {named}.",
            steps=[],
            evidence={"objects": count, "bytes": size, "part of all memory": share(size / whole)},
            estimate_ms=None,
            how="counted",
            price="loading or making them again, where another scene needs them",
            conditions=(
                "no other scene needs them: compare with a frame of another moment"
                if others
                else "other frames do not need them: a sequence, or memory --against another frame, tells more"
            ),
            less_bytes=size,
            refused="what the frame does not use changes nothing in a replay: there is nothing to measure",
        )
