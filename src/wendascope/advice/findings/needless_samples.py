"""Multisampled targets whose samples make no difference to the picture."""

from __future__ import annotations

from collections.abc import Iterator

from wendascope.advice.findings._registry import Case, Finding, finding
from wendascope.advice.rule import Effort, Rule, Side
from wendascope.frame.memory import MemoryItem
from wendascope.frame.remedy import Remedy
from wendascope.texts import memory


@finding(Rule("needless-samples", "Memory", Side.MEMORY, Effort.SETTING))
def needless_samples(case: Case) -> Iterator[Finding]:
    """Steps that draw into targets of several samples, by the targets; replay tells whether anybody sees it."""
    by_steps: dict[tuple[int, ...], list[MemoryItem]] = {}
    for item in case.frame.memory:
        draws = tuple(int(s) for s in item.writes if case.frame.steps.kind_name(int(s)) == "draw")
        if item.samples > 1 and item.size and draws:
            by_steps.setdefault(draws, []).append(item)
    for draws, items in by_steps.items():
        saved = sum(item.size - item.size // item.samples for item in items)
        names = " and ".join(item.title for item in items)
        samples = max(item.samples for item in items)
        yield Finding(
            id=f"needless-samples-{items[0].object_class}-{items[0].name}",
            rule="needless-samples",
            title=f"{names}: {samples} samples, and one would do: {memory(saved)} less",
            why="With multisampling switched off for what is drawn into it, the picture stays as it is.",
            steps=list(draws),
            evidence={
                "samples": samples,
                "bytes now": sum(item.size for item in items),
                "bytes then": sum(item.size for item in items) - saved,
            },
            estimate_ms=None,
            how="",
            price="edges that other frames may have",
            conditions="it is made with one sample, and nothing resolves it",
            remedy=Remedy("one-sample", list(draws)),
            less_bytes=saved,
        )
