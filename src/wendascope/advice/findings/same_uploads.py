"""Buffers and textures that are filled again with what they hold."""

from __future__ import annotations

from collections.abc import Iterator

from wendascope.advice.findings._registry import Case, Finding, finding
from wendascope.advice.rule import Effort, Rule, Side
from wendascope.frame.remedy import Remedy
from wendascope.texts import memory, plural, verb

_LEAST_BYTES, _LEAST_CALLS = 4096, 8
"""Fewer bytes in fewer calls are not worth remembering what was uploaded."""


@finding(Rule("repeated-upload", "State", Side.CPU, Effort.SUBMISSION))
def repeated_uploads(case: Case) -> Iterator[Finding]:
    """Uploads of the bytes that are there already, from the frame before or from earlier in this one."""
    same = case.frame.same_uploads
    size = sum(size for _, size in same)
    if not same or (size < _LEAST_BYTES and len(same) < _LEAST_CALLS):
        return
    writes = verb(len(same), "writes", "write")
    ms = sum(float(case.frame.call_ms[call]) for call, _ in same)
    yield Finding(
        id="repeated-upload",
        rule="repeated-upload",
        title=f"{plural(len(same), 'upload')} of {memory(size)} {writes} what is there already",
        why="Every byte is what the buffer or texture holds. A program that remembers what it uploaded skips the call.",
        steps=[],
        evidence={
            "uploads that change nothing": len(same),
            "bytes in them": size,
            "CPU time in them while recorded, ms": round(ms, 3),
        },
        estimate_ms=ms,
        how="CPU time inside these calls while the frame was recorded",
        price="a mark in the program that says what has changed since it was uploaded",
        conditions="upload again when the data changes, and after a context was lost",
        remedy=Remedy("drop-calls", [], calls=[call for call, _ in same]),
    )
