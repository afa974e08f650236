"""Textures that are larger than any pixel needs, and those that lack mip levels."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass

from wendascope.advice.causes import STORED
from wendascope.advice.findings._registry import Case, Finding, finding
from wendascope.advice.rule import Effort, Rule, Side, Verify
from wendascope.analysis.memory.memory_use import NEVER, SampledTexture
from wendascope.analysis.memory.traffic import moved
from wendascope.frame.memory import MemoryItem, MemoryKind
from wendascope.frame.remedy import Remedy
from wendascope.texts import memory, plural, share, verb

_LEAST_SAVED = 16 << 10
_ALONE = 6
"""Findings about one texture each; the others are one together."""
_LEAST_MINIFIED, _LEAST_SIZE, _LEAST_SAMPLES = 0.5, 64, 32
_THIRD = 1 / 3
"""What all mip levels take beside the first."""


@dataclass(frozen=True)
class _Oversized:
    item: MemoryItem
    read: SampledTexture
    levels: int
    """How many of the finest are never read."""
    saved: int


def _sampled(case: Case) -> Iterator[tuple[MemoryItem, SampledTexture]]:
    """Textures that are no targets, as far as it was measured what is read of them."""
    if case.memory_use is None:
        return
    items = {i.name: i for i in case.frame.memory if i.object_class == "texture" and i.kind == MemoryKind.TEXTURE}
    for row in case.memory_use.sampled.textures:
        item = items.get(row.texture)
        if item is not None and item.size and row.finest < NEVER:
            yield item, row


@finding(Rule("oversized-texture", "Memory", Side.MEMORY, Effort.ASSET, cause=STORED))
def oversized_textures(case: Case) -> Iterator[Finding]:
    """Those of which a coarser level is the finest that any fragment of the frame reads, or would read."""
    found = []
    for item, row in _sampled(case):
        levels = math.floor(row.finest if item.levels > 1 else row.wanted)
        levels = min(levels, max(item.width, item.height).bit_length() - 1)
        saved = item.size - item.size // 4**levels if levels >= 1 else 0
        if saved >= _LEAST_SAVED:
            found.append(_Oversized(item, row, levels, saved))
    found.sort(key=lambda row: -row.saved)
    for large in found[:_ALONE]:
        yield _oversized(case, [large])
    by_levels: dict[tuple[int, bool], list[_Oversized]] = {}
    for large in found[_ALONE:]:
        by_levels.setdefault((large.levels, large.item.levels > 1), []).append(large)
    for rows in by_levels.values():
        yield _oversized(case, rows)


def _oversized(case: Case, rows: list[_Oversized]) -> Finding:
    first, levels = rows[0].item, rows[0].levels
    steps = sorted({int(step) for row in rows for step in row.item.reads})
    saved, now = sum(row.saved for row in rows), sum(row.item.size for row in rows)
    small = f"{max(first.width >> levels, 1)} x {max(first.height >> levels, 1)}"
    if len(rows) == 1:
        title = f"{first.title} is {first.width} x {first.height}, and {small} would do: {memory(saved)} less"
    else:
        title = f"{len(rows)} more textures have {plural(levels, 'level')} too many: {memory(saved)} less"
    mips = first.levels > 1
    values, names = {"levels": float(levels)}, [row.item.name for row in rows]
    evidence: dict[str, int | float | str] = {"bytes now": now, "bytes then": now - saved}
    if len(rows) == 1:
        read = rows[0].read
        evidence["finest level read" if mips else "texels across a pixel, at least"] = round(
            read.finest if mips else 2**read.wanted, 2
        )
    evidence |= moved(case.traffic, [row.item for row in rows])
    return Finding(
        id=f"oversized-texture-{first.name}",
        rule="oversized-texture",
        title=title,
        why=(
            f"No fragment of this frame reads a finer level than {levels}: measured with shaders that note the levels"
            " they read."
            if mips
            else f"Every pixel that shows it covers {2**levels} texels each way or more, by shaders that note it;"
            " without mip levels most of them are passed over."
        ),
        steps=steps,
        evidence=evidence,
        estimate_ms=None,
        how="bytes are counted; what the smaller fetches save, a proof measures",
        price="coarser where it comes nearer in other frames" + ("" if mips else "; smoother here"),
        conditions="look at it where it is shown largest before it is made smaller",
        less_bytes=saved,
        remedy=Remedy("drop-levels" if mips else "smaller-textures", steps, textures=names, values=values),
    )


@finding(Rule("missing-mip-levels", "Memory", Side.MEMORY, Effort.ASSET))
def missing_levels(case: Case) -> Iterator[Finding]:
    """Textures of one level most of whose samples pass over texels: they shimmer, and fetch more than they show."""
    for item, row in _sampled(case):
        minified = row.minified / max(row.samples, 1)
        if item.levels > 1 or row.samples < _LEAST_SAMPLES or minified < _LEAST_MINIFIED:
            continue
        if min(item.width, item.height) < _LEAST_SIZE or item.shape not in ("2D", "2D array", "cube"):
            continue
        yield Finding(
            id=f"missing-mip-levels-{item.name}",
            rule="missing-mip-levels",
            title=f"{item.title} has no mip levels, and {share(minified)} of its samples step over texels",
            why=(
                "Where a pixel covers several texels, one of them is picked: it shimmers when anything moves, and"
                " neighbouring pixels fetch from far apart."
            ),
            steps=[int(step) for step in item.reads],
            evidence={
                "samples looked at": row.samples,
                "of them with two texels a pixel or more": row.minified,
                "bytes now": item.size,
                "bytes of all levels": round(item.size * _THIRD),
            },
            estimate_ms=None,
            how="a proof measures it",
            price=f"{memory(item.size * _THIRD)} more, and a picture that is smoother there",
            conditions="its filter reads mip levels",
            less_bytes=-round(item.size * _THIRD),
            remedy=Remedy("mip-levels", [int(step) for step in item.reads], textures=[item.name]),
        )


@finding(Rule("unread-mip-levels", "Memory", Side.MEMORY, Effort.ASSET, Verify.ADVICE, cause=STORED))
def unread_levels(case: Case) -> Iterator[Finding]:
    """Levels that no filter ever asks for."""
    rows = []
    for item in case.frame.memory:
        record = case.frame.textures.get(item.name) if item.object_class == "texture" else None
        if record is None or item.kind != MemoryKind.TEXTURE or item.levels < 2 or not item.used or not item.followed:
            continue
        if record.filter != "mipmaps" and record.plain and not case.frame.samplers_decide:
            first = record.first_level_bytes
            if item.size - first >= _LEAST_SAVED:
                rows.append((item, item.size - first))
    if rows:
        saved = sum(size for _, size in rows)
        names = ", ".join(item.title for item, _ in rows[:3]) + (" ..." if len(rows) > 3 else "")
        yield Finding(
            id="unread-mip-levels",
            rule="unread-mip-levels",
            title=f"{plural(len(rows), 'texture')} {verb(len(rows), 'has', 'have')} mip levels that their filters never"
            f" read: {memory(saved)}",
            why=f"The filter for smaller sizes reads the first level alone: {names}.",
            steps=sorted({int(step) for item, _ in rows for step in item.reads}),
            evidence={"textures": len(rows), "bytes of unread levels": saved},
            estimate_ms=None,
            how="counted",
            price="none while the filter stays; with mipmaps in the filter they would be read",
            conditions="either leave the levels out, or let the filter read them: where they are shown small, that is"
            " faster and smoother",
            refused="which of the two is wanted is for you to say",
            less_bytes=saved,
        )
