"""Objects in memory as rows for other programs: JSON and CSV."""

from __future__ import annotations

import csv
import io
from collections.abc import Mapping, Sequence

import msgspec
import numpy as np

from wendascope.analysis.memory.sums import MemoryComparison, MemoryGroup, grouped, memory_answer, total
from wendascope.analysis.memory.traffic import Moved, ObjectKey
from wendascope.frame.frame import Frame
from wendascope.frame.memory import MemoryItem
from wendascope.texts import cell


class MemoryRow(msgspec.Struct):
    """One object. `bytes` is null where the size of its format is not known; `used` where not every use is followed
    and none was found.
    """

    object: str
    name: int
    label: str
    kind: str
    format: str
    shape: str
    width: int
    height: int
    layers: int
    levels: int
    samples: int
    bytes: int | None
    how: str
    used: bool | None
    passes: list[str]
    reading_steps: int
    writing_steps: int
    first_step: int | None
    last_written_by: str
    read_bytes: int | None
    """In the frame, modelled; null where it cannot be told."""
    written_bytes: int | None


class MemoryTotal(msgspec.Struct):
    """All of one kind."""

    kind: str
    objects: int
    bytes: int


class MemoryDocument(msgspec.Struct):
    """What `memory --json` prints of one frame."""

    answer: str
    notes: str
    bytes: int
    kinds: list[MemoryTotal]
    objects: list[MemoryRow]


class MemoryChangeRow(msgspec.Struct):
    """One object that differs between two moments."""

    change: str
    object: str
    name: int
    label: str
    format: str
    dimensions: str
    place: str
    bytes_before: int | None
    bytes_after: int | None


class MemoryComparisonDocument(msgspec.Struct):
    """What `memory --against --json` prints."""

    answer: str
    bytes_before: int
    bytes_after: int
    same: int
    changes: list[MemoryChangeRow]
    several_new: list[MemoryTotal]
    """New objects of one kind and size, of which there are several."""
    growing: list[MemoryTotal] = []
    """Of three moments or more: what each has more of than the one before, with what came since the first."""


def memory_document(frame: Frame, moved: Mapping[ObjectKey, Moved]) -> MemoryDocument:
    """Everything of a frame, largest first; `moved` tells what it moves (see `traffic`)."""
    items = sorted(frame.memory, key=lambda item: -item.size)
    kinds = [MemoryTotal(group.name, len(group.items), group.bytes) for group in grouped(frame, items, "kind")]
    rows = [_row(frame, item, moved.get((item.object_class, item.name))) for item in items]
    return MemoryDocument(*memory_answer(frame), total(items), kinds, rows)


def _row(frame: Frame, item: MemoryItem, moved: Moved | None) -> MemoryRow:
    steps = item.steps
    used = True if item.used else False if item.followed else None
    return MemoryRow(
        item.object_class, item.name, item.label, item.kind.value, item.format, item.shape, item.width, item.height,
        item.layers, item.levels, item.samples, item.bytes, item.how, used, pass_names(frame, item),
        len(item.reads), len(item.writes), int(steps[0]) if len(steps) else None, last_writer(frame, item),
        moved.read if moved else None, moved.written if moved else None,
    )  # fmt: skip


def pass_names(frame: Frame, item: MemoryItem) -> list[str]:
    """The passes that use an object, in the order of the frame."""
    uses = np.bincount(np.asarray(frame.passes.of_step)[item.steps])
    return [frame.passes.names[i] for i in np.flatnonzero(uses).tolist()]


def last_writer(frame: Frame, item: MemoryItem) -> str:
    """What writes an object last: `step 12` or a call; empty where the frame does not write it."""
    if item.written_by < 0:
        return ""
    steps = np.flatnonzero(np.asarray(frame.steps.call) == item.written_by)
    return f"step {int(steps[0])}" if len(steps) else f"call {item.written_by:,}, {frame.call_name(item.written_by)}"


def comparison_document(found: MemoryComparison, growing: Sequence[MemoryGroup] = ()) -> MemoryComparisonDocument:
    """The changes between two moments, and what grows through several."""
    rows = [
        MemoryChangeRow(
            change.kind.value,
            change.item.object_class,
            change.item.name,
            change.item.label,
            change.item.format,
            change.item.dimensions,
            change.item.place,
            change.before.bytes if change.before else None,
            change.after.bytes if change.after else None,
        )
        for change in found.changes
    ]
    several, more = (
        [MemoryTotal(group.name, len(group.items), group.bytes) for group in groups]
        for groups in (found.same_named, growing)
    )
    return MemoryComparisonDocument(found.answer, found.before, found.after, found.same, rows, several, more)


def as_csv(rows: Sequence[msgspec.Struct]) -> str:
    """With a header; lists are joined by semicolons, what is not known is an empty cell."""
    text = io.StringIO()
    writer = csv.writer(text, lineterminator="\n")
    for number, row in enumerate(rows):
        if number == 0:
            writer.writerow(row.__struct_fields__)
        values = [getattr(row, name) for name in row.__struct_fields__]
        writer.writerow([cell(";".join(v) if isinstance(v, list) else "" if v is None else v) for v in values])
    return text.getvalue()
