"""Render targets with more bits than their values need, and depth that nobody reads."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

import numpy as np

from wendascope.advice.findings._registry import Case, Finding, finding
from wendascope.advice.rule import Effort, Rule, Side, Verify
from wendascope.analysis.memory.memory_use import TargetValues
from wendascope.analysis.memory.traffic import moved
from wendascope.frame.formats import Format
from wendascope.frame.memory import MemoryItem
from wendascope.frame.remedy import Remedy
from wendascope.texts import memory

_LARGEST_HALF = 65504.0


@finding(Rule("wide-target", "Memory", Side.MEMORY, Effort.SETTING))
def wide_targets(case: Case) -> Iterator[Finding]:
    """Targets that a narrower format would hold, by the values that they have after the frame."""
    if case.memory_use is None:
        return
    items = {(item.object_class, item.name): item for item in case.frame.memory}
    for values in case.memory_use.targets:
        item = items.get((values.object_class, values.name))
        if item is None or not item.size or not len(item.writes) or values.low == values.high:
            continue  # where it is all of one colour, nothing was drawn that tells what it is for
        narrower = _narrower(item, values)
        if narrower is not None:
            yield _finding(case, item, values, *narrower)


def _narrower(item: MemoryItem, values: TargetValues) -> tuple[Format, float] | None:
    """(format, part of the bytes) that would hold the values; None where none is known."""
    now, channels = item.texels, len(item.texels.channels)
    if not now.is_plain or now.kind != "sfloat" or not values.finite:
        return None
    if values.within_one:
        return replace(now, name="", bits=8, kind="unorm"), 8 / now.bits
    if min(values.low) >= 0.0 and max(values.high) <= _LARGEST_HALF and channels >= 3 and values.plain_alpha:
        return Format(packed="10F_11F_11F"), 32 / (channels * now.bits)
    if now.bits == 32 and max(abs(value) for value in (*values.low, *values.high)) <= _LARGEST_HALF:
        return replace(now, name="", bits=16), 0.5
    return None


def _finding(case: Case, item: MemoryItem, values: TargetValues, narrower: Format, part: float) -> Finding:
    saved = round(item.size * (1 - part))
    steps = [int(step) for step in item.steps]
    texture = item.object_class == "texture"
    colours = [k for k, name in enumerate(values.channels) if name != "alpha"]
    low, high = min(values.low[k] for k in colours), max(values.high[k] for k in colours)
    return Finding(
        id=f"wide-target-{item.object_class}-{item.name}",
        rule="wide-target",
        title=f"{item.title} is {item.format}, and {narrower.word} would hold its values: {memory(saved)} less",
        why=(
            f"After the frame its colours are {low:.3g} to {high:.3g}"
            + (", and alpha is 1 everywhere or not there" if values.plain_alpha else "")
            + ". Every step that draws into it or reads it moves fewer bytes."
        ),
        steps=steps,
        evidence={
            "bytes now": item.size,
            "bytes then": item.size - saved,
            "smallest colour": round(low, 4),
            "largest colour": round(high, 4),
            **moved(case.traffic, [item]),
            "steps that draw into it": len(item.writes),
            "steps that read it": len(item.reads),
        },
        estimate_ms=None,
        how="a proof measures it, with the picture beside it",
        price="values are rounded more coarsely: the proof shows where that is seen",
        conditions="brighter scenes stay within the format",
        remedy=Remedy("narrower-target", steps, textures=[item.name], names=[narrower.word]) if texture else None,
        less_bytes=saved,
        refused="" if texture else "renderbuffers are not exchanged here",
    )


@finding(Rule("unread-depth", "Memory", Side.MEMORY, Effort.SETTING, Verify.ADVICE))
def unread_depth(case: Case) -> Iterator[Finding]:
    """Depth of passes that nothing reads after them."""
    flow = case.frame.resource_flow
    if not flow.followed:
        return
    for item in case.frame.memory:
        if not item.texels.has_depth or not len(item.writes) or not item.followed or not item.size:
            continue
        passes = np.unique(np.asarray(case.frame.passes.of_step)[item.writes])
        is_read = len(item.reads) or len(item.by_calls) or item.read_next
        if is_read or len(passes) != 1 or item.object_class == "window":
            continue
        number = int(passes[0])
        if not _cleared_first(case, item, number):
            continue
        yield Finding(
            id=f"unread-depth-{item.object_class}-{item.name}",
            rule="unread-depth",
            title=f"{item.title}: the depth of {case.names[number]} is kept, and nothing reads it: {memory(item.size)}",
            why=(
                "The pass clears it, tests against it, and no later step samples or copies it. Told that it is not"
                " needed, a GPU that draws in tiles never writes it to memory."
            ),
            steps=[int(step) for step in item.writes],
            evidence={"bytes": item.size, "bytes written at the end of the pass, modelled": item.size},
            estimate_ms=None,
            how="modelled: all of it is written once, which drivers may compress",
            price="none while nothing reads it",
            conditions=(
                "invalidate it after the pass (glInvalidateFramebuffer), or share one depth image between such passes"
            ),
            refused="this driver keeps everything in one memory: there is nothing to measure here",
        )


def _cleared_first(case: Case, item: MemoryItem, number: int) -> bool:
    """Whether the pass begins with a clear, so that nothing of the frame before is needed."""
    first = int(case.frame.passes.first[number])
    return case.frame.steps.kind_name(first) == "clear" and first in item.writes
