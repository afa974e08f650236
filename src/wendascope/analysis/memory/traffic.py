"""How many bytes a frame moves to and from what it keeps in memory: a model, by what was counted."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import NamedTuple

from wendascope.analysis.geometry.drawn import Drawn
from wendascope.analysis.memory.memory_use import COUNTED_PART, MemoryUse
from wendascope.frame.frame import Frame
from wendascope.frame.memory import MemoryItem, MemoryKind

ObjectKey = tuple[str, int]
"""(class, name)."""


class Moved(NamedTuple):
    """Bytes of one object in one frame."""

    read: int
    written: int

    @property
    def bytes(self) -> int:
        return self.read + self.written


def traffic(frame: Frame, drawn: Drawn | None, use: MemoryUse | None) -> dict[ObjectKey, Moved]:
    """Of every object of which it can be told. Fragments that pass write one texel of their target, and read it where
    they blend; covered samples read the depth they are tested against; a texture sample reads one texel, as its
    neighbours come from the cache; draws fetch each byte of a buffer once.
    """
    found: dict[ObjectKey, Moved] = {}
    samples = {row.texture: row.samples * COUNTED_PART for row in use.sampled.textures} if use is not None else {}
    for item in frame.memory:
        texel = _texel_bytes(item)
        if item.object_class == "buffer":
            fetched = frame.fetched.get(item.name)
            if fetched is not None:
                found[item.object_class, item.name] = Moved(fetched.bytes, 0)
            continue
        read = samples.get(item.name, 0) * texel if item.object_class == "texture" else 0.0
        written = 0.0
        if drawn is not None and len(item.writes) and item.kind != MemoryKind.TEXTURE:
            into, out = _of_target(item, drawn)
            read, written = read + out * texel, into * texel
        if read or written:
            found[item.object_class, item.name] = Moved(round(read), round(written))
    return found


def moved(known: Mapping[ObjectKey, Moved], items: Iterable[MemoryItem]) -> dict[str, int | float | str]:
    """Evidence of a finding about some objects; nothing where it cannot be told of any."""
    total = sum(row.bytes for item in items if (row := known.get((item.object_class, item.name))) is not None)
    return {"bytes moved in the frame, modelled": total} if total else {}


def _texel_bytes(item: MemoryItem) -> float:
    """Of one sample of one texel, over all levels."""
    texels = sum(max(item.width >> k, 1) * max(item.height >> k, 1) for k in range(max(item.levels, 1)))
    return item.size / max(texels * item.layers * max(item.samples, 1), 1)


def _of_target(item: MemoryItem, drawn: Drawn) -> tuple[int, int]:
    """(texels written, texels read) by the steps that draw into a target."""
    into = out = 0
    depth = item.texels.has_depth
    for step in item.writes.tolist():
        row = drawn.steps[step]
        passed = max(row.fragments, 0)
        if depth:
            into += passed if row.depth_write or row.kind == "clear" else 0
            out += max(row.covered, passed) if row.depth_test else 0
        else:
            into += passed if row.kind != "depth" else 0
            out += passed if row.kind == "blended" else 0
    return into, out
