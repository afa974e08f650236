"""Textures that store a channel more than once, or one that is 0 or 1 everywhere."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from wendascope.advice.causes import STORED
from wendascope.advice.findings._by_use import by_use
from wendascope.advice.findings._registry import Case, Finding, finding
from wendascope.advice.rule import Effort, Rule, Side
from wendascope.analysis.memory.traffic import moved
from wendascope.frame.distinct_channels import DistinctChannels
from wendascope.frame.memory import MemoryItem
from wendascope.frame.remedy import Remedy
from wendascope.texts import listed, memory, plural

_LEAST_SAVED = 16 << 10
_ALONE = 4
"""Findings about one texture each; the others are one together."""
_WORDS = {"R": "red", "G": "green", "B": "blue", "A": "alpha"}


@dataclass(frozen=True)
class _Spare:
    item: MemoryItem
    channels: DistinctChannels

    @property
    def saved(self) -> int:
        return self.item.size - self.item.size * len(self.channels.kept) // self.channels.stored


@finding(Rule("spare-channels", "Memory", Side.MEMORY, Effort.ASSET, cause=STORED))
def spare_channels(case: Case) -> Iterator[Finding]:
    """By all texels of all levels, where the frame writes none of them."""
    found = [
        _Spare(facts.item, facts.channels)
        for facts in case.texture_facts
        if facts.channels is not None and facts.item.size >= _LEAST_SAVED
    ]
    largest, rest, unused = by_use(found, _LEAST_SAVED, _ALONE)
    for row in largest:
        yield _finding(
            case, [row], f"{row.item.title} is {_told(row.channels)}; {row.channels.format.word} would hold it"
        )
    if rest:
        yield _finding(case, rest, f"{plural(len(rest), 'more texture')} could be stored with fewer channels")
    if unused:
        of = plural(len(unused), "texture")
        yield _finding(case, unused, f"{of} that this frame does not use could be stored with fewer channels")


def _finding(case: Case, rows: list[_Spare], what: str) -> Finding:
    first, saved = rows[0], sum(row.saved for row in rows)
    steps = sorted({int(step) for row in rows for step in row.item.reads})
    return Finding(
        id=f"spare-channels-{first.item.name}",
        rule="spare-channels",
        title=f"{what}: {memory(saved)} less",
        why=(
            "Every texel of every level was compared. With a swizzle (TEXTURE_SWIZZLE_R and the like) shaders read the"
            " same four channels from fewer, and fetch fewer bytes."
        ),
        steps=steps,
        evidence={
            "textures": len(rows),
            "bytes now": sum(row.item.size for row in rows),
            "bytes then": sum(row.item.size for row in rows) - saved,
            "formats": listed(sorted({row.channels.format.word for row in rows})),
            **moved(case.traffic, [row.item for row in rows]),
        },
        estimate_ms=None,
        how="counted; what the smaller fetches save, a proof measures",
        price="none; the shaders stay as they are",
        conditions="whatever else is loaded into them has the same channels",
        remedy=(Remedy("fewer-channels", steps, textures=[row.item.name for row in rows]) if first.item.used else None),
        refused="" if first.item.used else "the frame does not use them",
        less_bytes=saved,
    )


def _told(channels: DistinctChannels) -> str:
    """`grey, with alpha 1`, ..."""
    sources = channels.sources
    grey = sources["R"] == sources["G"] == sources["B"]
    constant = {"0": "0", "1": "1"}.get(sources["A"])
    if grey and sources["R"] == "R":
        if constant is not None:
            return f"grey, and its alpha is {constant}"
        return "grey, and its alpha is the same" if sources["A"] == "R" else "grey"
    if grey:
        return f"{'white' if sources['R'] == '1' else 'black'} everywhere but in alpha"
    told = [
        f"{_WORDS[c]} is {'0' if s == '0' else '1' if s == '1' else 'equal to ' + _WORDS[s]}"
        for c, s in sources.items()
        if s != c
    ]
    return f"of {plural(len(channels.kept), 'channel')}: {listed(told)}"
