"""Graphics memory summed up: by kind, by use, by size; and what changed between two moments of a program."""

from __future__ import annotations

import itertools
import re
from collections import Counter
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from enum import Enum

import numpy as np

from wendascope.frame.frame import Frame
from wendascope.frame.memory import MemoryItem, MemoryKind
from wendascope.texts import memory, plural, share, verb

_SIZES = (
    (16 << 20, "16 MiB and more"),
    (4 << 20, "4 to 16 MiB"),
    (1 << 20, "1 to 4 MiB"),
    (1 << 18, "256 KiB to 1 MiB"),
)
_SMALL = "less than 256 KiB"
UNUSED = "not used in this frame"
SEVERAL_PASSES = "several passes"


@dataclass(frozen=True)
class MemoryGroup:
    """Objects that have something in common, largest first."""

    name: str
    items: list[MemoryItem]

    @property
    def bytes(self) -> int:
        return sum(item.size for item in self.items)


def _pass_of(frame: Frame, item: MemoryItem) -> str:
    passes = np.unique(np.asarray(frame.passes.of_step)[item.steps])
    if len(passes) > 1:
        return SEVERAL_PASSES
    if len(passes):
        return frame.passes.names[int(passes[0])]
    return "uploads and readbacks" if item.used else UNUSED


def _use(_frame: Frame, item: MemoryItem) -> str:
    if not item.used:
        return UNUSED if item.followed else "uses are not followed"
    if len(item.writes) and len(item.reads):
        return "written and read"
    return "read" if len(item.reads) else "written" if len(item.writes) else "uploads and readbacks"


def _size_class(_frame: Frame, item: MemoryItem) -> str:
    if item.bytes is None:
        return "size not known"
    return next((name for least, name in _SIZES if item.bytes >= least), _SMALL)


def _label(_frame: Frame, item: MemoryItem) -> str:
    """The first word of a label."""
    return re.split(r"[\s/.:_#-]|(?<=\D)\d", item.label, maxsplit=1)[0] or "no label"


GROUPINGS: dict[str, Callable[[Frame, MemoryItem], str]] = {
    "kind": lambda _frame, item: item.kind.value,
    "pass": _pass_of,
    "use": _use,
    "format": lambda _frame, item: item.format or "buffer",
    "size": _size_class,
    "label": _label,
}
"""What objects can be grouped by."""


def grouped(frame: Frame, items: Sequence[MemoryItem], by: str) -> list[MemoryGroup]:
    """Objects by one of `GROUPINGS`, the group with most bytes first."""
    found: dict[str, list[MemoryItem]] = {}
    for item in items:
        found.setdefault(GROUPINGS[by](frame, item), []).append(item)
    groups = [MemoryGroup(name, sorted(of, key=lambda item: -item.size)) for name, of in found.items()]
    return sorted(groups, key=lambda group: (-group.bytes, group.name))


def total(items: Sequence[MemoryItem]) -> int:
    """Bytes of all that are known."""
    return sum(item.size for item in items)


def is_unused(item: MemoryItem) -> bool:
    """Whether it certainly has no use in the frame."""
    return item.followed and not item.used and item.size > 0


def memory_answer(frame: Frame) -> tuple[str, str]:
    """(answer, evidence) to how much memory there is, of what, and how much of it the frame does not use."""
    items = frame.memory
    if not items:
        return "Nothing is known of this frame's memory.", ""
    whole = total(items)
    first = grouped(frame, items, "kind")[0]
    kinds = plural(len(first.items), first.name, _SEVERAL.get(first.items[0].kind, ""))
    part = share(first.bytes / whole) if whole else "0 %"
    several = _SEVERAL.get(first.items[0].kind, f"{first.name}s")
    answer = (
        f"{memory(whole)} of graphics memory, the largest part in {several if len(first.items) > 1 else first.name}."
    )
    evidence = f"{plural(len(items), 'object')}; {part} of the bytes in {kinds}."
    unused = [item for item in items if is_unused(item)]
    if unused:
        evidence += (
            f" {memory(total(unused))} in {plural(len(unused), 'object')} {verb(len(unused), 'is', 'are')} not used."
        )
    return answer, f"{evidence} {_notes(frame)}"


_SEVERAL = {MemoryKind.WINDOW: "windows"}


def _notes(frame: Frame) -> str:
    """What the numbers leave out, and what the driver says beside them."""
    items = frame.memory
    unknown = sum(item.bytes is None for item in items)
    hidden = sum(not item.followed for item in items)
    parts = ["Bytes are those of the formats; drivers add alignment and copies of their own."]
    theirs = sum(frame.metadata.driver_memory.values())
    if theirs:
        regions = ", ".join(f"{region} {memory(size)}" for region, size in frame.metadata.driver_memory.items())
        apart = theirs - total(items)
        parts.append(
            f"The kernel counts {memory(theirs)} of the process ({regions}): {memory(abs(apart))}"
            f" {'more' if apart >= 0 else 'less'}: programs, alignment, and what the driver keeps or moved elsewhere."
        )
    if frame.context.free_memory is not None:
        parts.append(f"The driver had {memory(frame.context.free_memory)} left for all programs.")
    if unknown:
        left = f"{plural(unknown, 'object')} of a format whose size is not known {verb(unknown, 'is', 'are')}"
        parts.append(f"{left} not counted.")
    if hidden:
        parts.append(f"Of {plural(hidden, 'object')} not every use is followed.")
    return " ".join(parts)


# ---- two moments ---------------------------------------------------------------------------------------------


class ChangeKind(Enum):
    """What became of an object. The values are how it is said."""

    NEW = "new"
    GONE = "gone"
    LARGER = "larger"
    SMALLER = "smaller"
    OTHER = "other format or size"


@dataclass(frozen=True)
class MemoryChange:
    """One object that is not what it was; before or after is None where there was none."""

    kind: ChangeKind
    before: MemoryItem | None
    after: MemoryItem | None

    @property
    def item(self) -> MemoryItem:
        found = self.after or self.before
        assert found is not None
        return found

    @property
    def bytes(self) -> int:
        """By how much memory grew."""
        return (self.after.size if self.after else 0) - (self.before.size if self.before else 0)


@dataclass
class MemoryComparison:
    """Objects of two moments."""

    before: int
    after: int
    changes: list[MemoryChange] = field(default_factory=list)
    """Largest first."""
    same: int = 0
    """Objects that are as they were."""
    same_named: list[MemoryGroup] = field(default_factory=list)
    """New objects of one kind, format and size, of which there are several: what a leak looks like."""

    @property
    def answer(self) -> str:
        new = [c for c in self.changes if c.kind == ChangeKind.NEW]
        gone = [c for c in self.changes if c.kind == ChangeKind.GONE]
        grown = self.after - self.before
        how = f"{memory(abs(grown))} {'more' if grown > 0 else 'less'}" if grown else "as much as before"
        text = f"{memory(self.before)} before, {memory(self.after)} after: {how}. "
        text += (
            f"{plural(len(new), 'object')} came, {plural(len(gone), 'object')} went, {self.same:,} stayed as they were."
        )
        return text


def compared(before: Sequence[MemoryItem], after: Sequence[MemoryItem]) -> MemoryComparison:
    """Objects go together by their class and name; where these have other labels, or none match at all, by label."""
    old, new = _names(before), _names(after)
    if not _one_run(old, new):
        old, new = _labels(before), _labels(after)
    found = MemoryComparison(total(before), total(after))
    for key, was in old.items():
        now = new.get(key)
        if now is None:
            found.changes.append(MemoryChange(ChangeKind.GONE, was, None))
        elif _shape(was) == _shape(now):
            found.same += 1
        else:
            kind = ChangeKind.LARGER if now.size > was.size else ChangeKind.SMALLER
            kind = ChangeKind.OTHER if now.size == was.size else kind
            found.changes.append(MemoryChange(kind, was, now))
    found.changes += [MemoryChange(ChangeKind.NEW, None, item) for key, item in new.items() if key not in old]
    found.changes.sort(key=lambda change: (-abs(change.bytes), change.item.object_class, change.item.name))
    fresh = [change.item for change in found.changes if change.kind == ChangeKind.NEW]
    by_shape: dict[object, list[MemoryItem]] = {}
    for item in fresh:
        by_shape.setdefault(_shape(item), []).append(item)
    groups = [MemoryGroup(_words(items[0]), items) for items in by_shape.values() if len(items) > 1]
    found.same_named = sorted(groups, key=lambda group: -group.bytes)
    return found


def _one_run(old: dict[object, MemoryItem], new: dict[object, MemoryItem]) -> bool:
    """Whether names can be trusted to mean the same: most objects that share one are alike."""
    shared = old.keys() & new.keys()
    alike = sum(old[key].label == new[key].label and _shape(old[key]) == _shape(new[key]) for key in shared)
    return 2 * alike >= len(shared)


def _names(items: Sequence[MemoryItem]) -> dict[object, MemoryItem]:
    return {(item.object_class, item.name, item.label if not item.name else ""): item for item in items}


def _labels(items: Sequence[MemoryItem]) -> dict[object, MemoryItem]:
    """By label, and by shape where there is none; the second of a kind is a second one."""
    seen = Counter[object]()
    found: dict[object, MemoryItem] = {}
    for item in items:
        key = (item.object_class, item.label or _shape(item))
        seen[key] += 1
        found[key, seen[key]] = item
    return found


def _shape(item: MemoryItem) -> tuple[object, ...]:
    size = item.size if item.object_class == "buffer" else 0
    texels = "" if item.object_class == "buffer" else item.format
    return item.object_class, item.width, item.height, item.layers, item.levels, item.samples, texels, size


def _made_alike(item: MemoryItem) -> tuple[object, ...]:
    """Equal for objects of one shape that were made in one place."""
    return *_shape(item), item.place


def _words(item: MemoryItem) -> str:
    if item.object_class == "buffer":
        return f"buffer of {memory(item.size)}"
    return f"{item.object_class} {item.dimensions} {item.format}"


def grows_without_end(moments: Sequence[Sequence[MemoryItem]]) -> list[MemoryGroup]:
    """Of three moments or more: objects of one shape, made in one place, of which every moment has more than the one
    before, and of which none that was there went away. Largest first.
    """
    if len(moments) < 3:
        return []
    counts = [Counter(_made_alike(item) for item in items) for items in moments]
    found = []
    for shape in counts[-1]:
        rows = [count[shape] for count in counts]
        if all(a < b for a, b in itertools.pairwise(rows)) and _all_stay(moments, shape):
            first = {item.name for item in moments[0] if _made_alike(item) == shape}
            items = [item for item in moments[-1] if _made_alike(item) == shape and item.name not in first]
            where = f", made in {items[0].place}" if items[0].place else ""
            found.append(MemoryGroup(_words(items[0]) + where, items))
    return sorted(found, key=lambda group: -group.bytes)


def _all_stay(moments: Sequence[Sequence[MemoryItem]], shape: object) -> bool:
    names = [{item.name for item in items if _made_alike(item) == shape} for items in moments]
    return all(a <= b for a, b in itertools.pairwise(names))
