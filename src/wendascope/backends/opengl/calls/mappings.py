"""Writes through mappings that stay: put where they belong among the calls of a frame."""

from __future__ import annotations

import numpy as np

from wendascope.backends.opengl.calls.packed import FLAG_EARLIER, CallStream, in_order
from wendascope.registry import Role


def settle_writes(calls: CallStream) -> CallStream:
    """Move every write that the tap noticed at a wait to right after the wait before it.

    A program that writes where an earlier draw may still read must wait first, so all that was written between two
    waits was there for every draw between them.
    """
    late = (calls.flags & FLAG_EARLIER) != 0
    if not late.any():
        return calls
    order = np.arange(len(calls), dtype=np.float64)
    waits = np.flatnonzero(calls.having(Role.WAITS))
    for call in np.flatnonzero(late).tolist():
        before = int(np.searchsorted(waits, call)) - 1
        # between the wait and whatever came after it, in the order of the writes
        order[call] = (waits[before] if before >= 0 else -1) + 0.5 + call / (2 * len(calls) + 1)
    return in_order(calls, np.argsort(order, kind="stable"))
