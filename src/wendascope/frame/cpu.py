"""The CPU side of a recorded frame: time inside calls, which of them wait, and the program's own time."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from wendascope.frame.packed import CallStream
from wendascope.registry import tables
from wendascope.registry.rules import WAITS

Floats = npt.NDArray[np.float64]

BLOCKED_MS = 0.5
BLOCKED_TIMES = 20.0
BLOCKED_LEAST = 5
"""A command must occur this often before one of its calls can stand out."""


@dataclass
class CpuLane:
    """Recorded calls on a time axis that starts with the first of them. Arrays of shape (calls,), ms."""

    begin: Floats
    end: Floats
    waits: npt.NDArray[np.bool_]

    @property
    def duration(self) -> Floats:
        return self.end - self.begin

    @property
    def frame_ms(self) -> float:
        return float(self.end[-1]) if len(self.end) else 0.0

    @property
    def waits_ms(self) -> float:
        return float(self.duration[self.waits].sum())

    @property
    def calls_ms(self) -> float:
        """Inside calls that do not wait."""
        return float(self.duration[~self.waits].sum())


def is_wait(command: str) -> bool:
    """Whether a command can block for work issued before it."""
    return WAITS.match(command) is not None


def cpu_lane(calls: CallStream) -> CpuLane:
    """Times of the recorded calls as the tap took them around each call."""
    if len(calls) == 0:
        empty = np.zeros(0)
        return CpuLane(empty, empty, np.zeros(0, bool))
    start = int(calls.begin_ns[0])
    begin = (calls.begin_ns.astype(np.int64) - start) / 1e6
    end = (calls.end_ns.astype(np.int64) - start) / 1e6
    commands = tables().commands
    ids = np.unique(calls.ids)
    waiting = np.array([is_wait(commands[i].name) for i in ids.tolist()], bool)
    waits = waiting[np.searchsorted(ids, calls.ids)] | _blocked(calls.ids, end - begin)
    return CpuLane(begin, end, waits)


def _blocked(ids: npt.NDArray[np.int64], duration: Floats) -> npt.NDArray[np.bool_]:
    """Calls that took so much longer than others of their command that they must have blocked for earlier work.

    The rule: over BLOCKED_MS, and over BLOCKED_TIMES the median of the same command in the frame.
    """
    blocked = np.zeros(len(ids), bool)
    for command in np.unique(ids[duration > BLOCKED_MS]).tolist():
        rows = np.flatnonzero(ids == command)
        if len(rows) >= BLOCKED_LEAST:
            blocked[rows] = duration[rows] > max(BLOCKED_MS, BLOCKED_TIMES * float(np.median(duration[rows])))
    return blocked
