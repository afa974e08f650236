"""An edited frame is again a packed buffer."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt

from wendascope.backends.edit import Calls, Edit
from wendascope.backends.opengl.calls.packed import BLOB, OUT, STRINGS, CallBatch, CallStream, Words

Ints = npt.NDArray[np.int64]


@dataclass
class EditedCalls:
    """A packed buffer, its arena, and for every call the captured call it came from (-1: inserted)."""

    words: Words
    arena: npt.NDArray[np.uint8]
    offsets: Ints
    origin: Ints
    owner: Ints
    """The captured call that each belongs to and runs with: its own, the one after it, or before it for what closes."""
    out_size: int = 0
    out_starts: list[int] = field(default_factory=list)
    """Where the output of each insertion begins in the output memory."""


def own_calls(calls: Calls) -> CallBatch:
    """Calls of an edit as what they are here."""
    assert isinstance(calls, CallBatch)
    return calls


def apply_edit(calls: CallStream, edit: Edit) -> EditedCalls:
    """Build the edited buffer. Order of work is that of the frame; insertions at one place keep their order."""
    count = len(calls) if edit.keep_until is None else min(edit.keep_until, len(calls))
    keep = np.ones(count, bool) if edit.drop is None else ~edit.drop[:count]
    arena_parts = [calls.arena]
    arena_at = (len(calls.arena) + 7) // 8 * 8
    arena_parts.append(np.zeros(arena_at - len(calls.arena), np.uint8))
    pieces: list[Words] = []
    origins: list[Ints] = []
    owners: list[Ints] = []
    offsets: list[Ints] = []
    out_size, at, position = 0, 0, 0
    out_starts = [0] * len(edit.insertions)
    packed: dict[int, tuple[Words, Ints]] = {}
    ends = np.append(calls.offsets[1:], len(calls.words))
    lengths = ends - calls.offsets
    whole = bool(keep.all())

    def take(first: int, last: int) -> None:
        """Copy the kept calls of [first, last)."""
        nonlocal at
        if first >= last:
            return
        piece = calls.words[calls.offsets[first] : ends[last - 1]]
        starts = calls.offsets[first:last] - calls.offsets[first]
        chosen = np.arange(first, last)
        if not whole and not keep[first:last].all():
            kept = keep[first:last]
            chosen, sizes = chosen[kept], lengths[first:last][kept]
            if len(chosen) == 0:
                return
            piece = piece[np.repeat(kept, lengths[first:last])]
            starts = np.cumsum(sizes) - sizes
        pieces.append(piece)
        offsets.append(at + starts)
        origins.append(chosen)
        owners.append(chosen)
        at += len(piece)

    for number, insertion in sorted(enumerate(edit.insertions), key=lambda row: (row[1].before, not row[1].closes)):
        if insertion.before > count and not insertion.undoes:
            continue
        take(position, min(insertion.before, count))
        position = insertion.before
        batch = own_calls(insertion.calls)
        if id(batch) not in packed:  # one batch may stand at many places
            packed[id(batch)] = np.array(batch.words, np.uint64), np.array(batch.starts, np.int64)
        words, starts = packed[id(batch)]
        if batch.pointers:
            words = words.copy()
            _shift_pointers(words, batch.pointers, arena_at, out_size)
        out_starts[number] = out_size
        out_size += batch.out_size
        if batch.arena:
            arena_parts.append(np.frombuffer(bytes(batch.arena), np.uint8))
            arena_at += len(batch.arena)
        pieces.append(words)
        offsets.append(at + starts)
        origins.append(np.full(len(batch.starts), -1, np.int64))
        owners.append(np.full(len(batch.starts), position - insertion.closes, np.int64))
        at += len(words)
    take(min(position, count), count)
    empty = np.zeros(0, np.int64)
    return EditedCalls(
        np.concatenate(pieces) if pieces else np.zeros(0, np.uint64),
        np.concatenate(arena_parts),
        np.concatenate(offsets) if offsets else empty,
        np.concatenate(origins) if origins else empty,
        np.concatenate(owners) if owners else empty,
        out_size,
        out_starts,
    )


def _shift_pointers(words: Words, pointers: list[int], arena_by: int, out_by: int) -> None:
    """Move a batch's blobs and outputs to where they lie in the whole buffer."""
    for at in pointers:
        mode = int(words[at]) >> 60
        if mode in (BLOB, STRINGS):
            words[at] += np.uint64(arena_by)
        elif mode == OUT:
            words[at] += np.uint64(out_by)
