"""Textures that block compression would hold in a fraction of their bytes, with little lost."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from wendascope.advice.causes import STORED
from wendascope.advice.findings._by_use import by_use
from wendascope.advice.findings._registry import Case, Finding, finding
from wendascope.advice.rule import Effort, Rule, Side
from wendascope.analysis.memory.memory_use import CompressedTexture
from wendascope.analysis.memory.traffic import moved
from wendascope.frame.memory import MemoryItem
from wendascope.frame.remedy import Remedy
from wendascope.texts import memory, plural

_LEAST_SAVED = 16 << 10
_LEAST_PSNR = 32.0
"""dB: below it text, icons and hard edges lie, whose blocks show."""
_ALONE = 3
"""Findings about one texture each; the others are one together."""


@dataclass(frozen=True)
class _Compressed:
    item: MemoryItem
    row: CompressedTexture

    @property
    def saved(self) -> int:
        return self.item.size - self.row.bytes


@finding(
    Rule(
        "compressible-texture",
        "Memory",
        Side.MEMORY,
        Effort.ASSET,
        risk="blocks can show in gradients and at edges: look at it",
        cause=STORED,
    )
)
def compressible_textures(case: Case) -> Iterator[Finding]:
    """By what a quick encoder makes of them; slower ones lose less."""
    if case.memory_use is None:
        return
    items = {i.name: i for i in case.frame.memory if i.object_class == "texture"}
    found = [
        _Compressed(items[row.texture], row)
        for row in case.memory_use.compressed
        if row.texture in items and row.psnr >= _LEAST_PSNR and not row.without_alpha
    ]
    largest, rest, unused = by_use(found, _LEAST_SAVED, _ALONE)
    for row in largest:
        yield _finding(case, [row], f"{row.item.title} is not compressed, and {row.row.word} would hold it")
    if rest:
        yield _finding(case, rest, f"{plural(len(rest), 'more texture')} could be compressed")
    if unused:
        of = plural(len(unused), "texture")
        yield _finding(case, unused, f"{of} that this frame does not use could be compressed")


def _finding(case: Case, rows: list[_Compressed], what: str) -> Finding:
    first, saved, now = rows[0], sum(row.saved for row in rows), sum(row.item.size for row in rows)
    steps = sorted({int(step) for row in rows for step in row.item.reads})
    words = sorted({row.row.word for row in rows})
    return Finding(
        id=f"compressible-texture-{first.item.name}",
        rule="compressible-texture",
        title=f"{what}: {memory(saved)} less",
        why=(
            f"{' and '.join(words) if len(words) < 3 else ', '.join(words)}: blocks of 4 x 4 texels, which GPUs decode"
            " where they read them. They fetch fewer bytes."
        ),
        steps=steps,
        evidence={
            "textures": len(rows),
            "bytes now": now,
            "bytes then": now - saved,
            "PSNR, dB" if len(rows) == 1 else "lowest PSNR, dB": min(row.row.psnr for row in rows),
            **moved(case.traffic, [row.item for row in rows]),
        },
        estimate_ms=None,
        how="bytes are counted, the loss is that of a quick encoder; drivers without a GPU decode them in their"
        " shaders, so times measured on one tell of the decoding",
        price="blocks that can show in gradients and at edges",
        conditions="they are compressed when they are built, not when they are loaded",
        remedy=(
            Remedy("compress-textures", steps, textures=[row.item.name for row in rows]) if first.item.used else None
        ),
        refused="" if first.item.used else "the frame does not use them",
        less_bytes=saved,
    )
