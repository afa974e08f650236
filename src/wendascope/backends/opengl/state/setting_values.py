"""What calls set, as one number a value, so that values can be compared a column at a time.

Values that lie in the arena (uniforms given by pointer) are compared by their bytes. Numbers are 64-bit mixes of the
words; two different values get the same number with a chance of about 2^-64.
"""

from __future__ import annotations

import numpy as np

from wendascope.backends.opengl.calls.packed import BLOB, CallStream
from wendascope.backends.opengl.state.state_table import PATTERNS
from wendascope.backends.opengl.state.tracker import StateHistory
from wendascope.frame.numbers import Ints, Numbers, combined, mixed
from wendascope.registry import tables
from wendascope.registry.numbers import OFFSET_MASK

_CHUNK = 1 << 22
"""Words gathered at a time, to bound the memory."""
_NO_VALUE = np.uint64(0x9E3779B97F4A7C15)


def blob_numbers(calls: CallStream, where: Numbers, lengths: Numbers) -> Numbers:
    """A number for the contents of each pointer argument, from its two slots."""
    numbers = combined(where, lengths)
    whole = calls.arena[: len(calls.arena) // 8 * 8].view(np.uint64) if calls.arena.ctypes.data % 8 == 0 else None
    stored = (where >> np.uint64(60)) == np.uint64(BLOB)
    for length in np.unique(lengths[stored]).tolist():
        rows = np.flatnonzero(stored & (lengths == np.uint64(length)))
        offsets = (where[rows] & np.uint64(OFFSET_MASK)).astype(np.int64)
        width = max((int(length) + 7) // 8, 1)
        with np.errstate(over="ignore"):
            salts = (np.arange(width, dtype=np.uint64) + np.uint64(1)) * _NO_VALUE
        for first in range(0, len(rows), max(_CHUNK // width, 1)):
            some = offsets[first : first + max(_CHUNK // width, 1)]
            if length % 8 == 0 and whole is not None and not (some % 8).any():
                words = whole[(some // 8)[:, None] + np.arange(width)]
            else:
                padded = np.zeros((len(some), width * 8), np.uint8)
                padded[:, :length] = calls.arena[some[:, None] + np.arange(length)]
                words = padded.view(np.uint64)
            with np.errstate(over="ignore"):
                sums = mixed(words + salts).sum(axis=1, dtype=np.uint64)
            numbers[rows[first : first + len(some)]] = combined(sums, int(length))
    return numbers


class SettingValues:
    """The value of every event of the state history as a number."""

    def __init__(self, calls: CallStream, history: StateHistory) -> None:
        self._calls = calls
        self._history = history
        self._numbers: dict[str, Numbers] = {}

    def numbers(self, pattern: str) -> Numbers:
        """One number an event of the pattern, in the order of `StateHistory.events`."""
        if pattern not in self._numbers:
            events = self._history.events(pattern)
            if "r" in PATTERNS[pattern].kinds:
                self._numbers[pattern] = self._by_argument(events.calls)
            elif events.values.shape[1] == 0:
                self._numbers[pattern] = np.zeros(len(events.calls), np.uint64)
            else:
                self._numbers[pattern] = combined(*events.values.T)
        return self._numbers[pattern]

    def _by_argument(self, calls: Ints) -> Numbers:
        """Of raw values: the command and all its arguments but where they go to."""
        numbers = np.zeros(len(calls), np.uint64)
        inside = np.flatnonzero(calls >= 0)
        ids = self._calls.ids[calls[inside]]
        for command in np.unique(ids).tolist():
            rows = inside[ids == command]
            columns: list[Numbers | int] = [command]
            for parameter in tables().commands[command].parameters:
                if parameter.name in ("program", "location"):
                    continue
                column = self._calls.column(calls[rows], parameter.slot)
                if parameter.kind == "pointer":
                    columns.append(
                        blob_numbers(self._calls, column, self._calls.column(calls[rows], parameter.slot + 1))
                    )
                else:
                    columns.append(column)
            numbers[rows] = combined(*columns)
        return numbers

    def column(self, pattern: str, calls: Ints, i: int = 0, j: int = 0) -> Numbers:
        """The value of one key as each of `calls` finds it, shape (n,); one and the same number where it is unknown."""
        events = self._history.events(pattern)
        start, end = events.span(i, j)
        if start == end:
            return np.full(len(calls), _NO_VALUE)
        found = np.searchsorted(events.calls[start:end], calls, side="left") - 1
        return np.where(found >= 0, self.numbers(pattern)[start:end][np.maximum(found, 0)], _NO_VALUE)
