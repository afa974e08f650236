"""Thousands of tiny buffers, where a few large ones would hold the same."""

from __future__ import annotations

from collections.abc import Iterator

from wendascope.advice.findings._registry import Case, Finding, finding
from wendascope.advice.rule import Effort, Rule, Side, Verify
from wendascope.frame.memory import MemoryKind
from wendascope.texts import memory, share

_TINY, _MANY = 4096, 1000
"""Bytes of a page of memory, which drivers mostly give at least; and buffers that are many."""


@finding(Rule("tiny-buffers", "Memory", Side.MEMORY, Effort.ASSET, Verify.COUNTED))
def tiny_buffers(case: Case) -> Iterator[Finding]:
    """Buffers of less than a page each, by the thousand."""
    buffers = [item for item in case.frame.memory if item.kind == MemoryKind.BUFFER and item.bytes is not None]
    tiny = [item for item in buffers if 0 < item.size < _TINY]
    if len(tiny) < _MANY:
        return
    held = sum(item.size for item in tiny)
    used = sum(item.used for item in tiny)
    yield Finding(
        id="tiny-buffers",
        rule="tiny-buffers",
        title=f"{len(tiny):,} buffers hold {memory(held / len(tiny))} each, {memory(held)} in all",
        why=(
            "Drivers give each buffer memory of its own, mostly whole pages, and keep a record of each. Draws of meshes"
            " in one large buffer need no binding between them, and can be batched."
        ),
        steps=[],
        evidence={
            "buffers below a page": len(tiny),
            "of all buffers": share(len(tiny) / len(buffers)),
            "bytes in them": held,
            "bytes as pages of 4 KiB": len(tiny) * _TINY,
            "used in this frame": used,
        },
        estimate_ms=None,
        how="counted; that a driver gives whole pages is assumed",
        price="one place that hands out parts of large buffers",
        conditions="meshes that come and go leave holes: parts of one size avoid that",
        less_bytes=len(tiny) * _TINY - held,
        refused="what a driver gives a buffer is not seen in a replay",
    )
