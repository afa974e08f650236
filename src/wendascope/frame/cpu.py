"""The CPU side of a recorded frame: time inside calls, which of them wait, and the program's own time."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

Floats = npt.NDArray[np.float64]

BLOCKED_MS = 0.5
BLOCKED_TIMES = 20.0
_MOST_OF_IDLE = 1.5
"""Long calls may add up to this many times the time that the thread did not run: part of a wait is work."""
PREEMPTED_TIMES = 4
"""A thread that is preempted this many times as often as it waits by itself is kept from running, and not waiting."""
BLOCKED_LEAST = 5
"""A command must occur this often before one of its calls can stand out."""


@dataclass
class CpuLane:
    """Recorded calls on a time axis that starts when recording did, or with the first of them where that is not known.
    Arrays of shape (calls,), ms."""

    begin: Floats
    end: Floats
    waits: npt.NDArray[np.bool_]
    recorded_ms: float = 0.0
    """Until the next frame end; 0 where that is not known."""

    @property
    def duration(self) -> Floats:
        return self.end - self.begin

    @property
    def frame_ms(self) -> float:
        """From frame end to frame end; from the first call to the last where frame ends are not known."""
        return max(float(self.end[-1]) if len(self.end) else 0.0, self.recorded_ms)

    @property
    def own_ms(self) -> float:
        """Outside OpenGL: what the program does itself, before, between and after its calls."""
        return max(0.0, self.frame_ms - self.calls_ms - self.waits_ms)

    @property
    def waits_ms(self) -> float:
        return float(self.duration[self.waits].sum())

    @property
    def calls_ms(self) -> float:
        """Inside calls that do not wait."""
        return float(self.duration[~self.waits].sum())


def cpu_lane(
    commands: npt.NDArray[np.int64],
    times: tuple[npt.NDArray[np.integer], npt.NDArray[np.integer]],
    waits: npt.NDArray[np.bool_],
    began_ns: int = 0,
    recorded_ns: int = 0,
    idle_ns: int | None = None,
    preempted: bool = False,
) -> CpuLane:
    """Times of the recorded calls as the tap took them around each call.

    `commands` are numbers of what each call calls, `times` when each began and ended, ns, `waits` which of them can
    block for earlier work; arrays of shape (calls,). `began_ns` and `recorded_ns` are when recording began and how
    long it lasted, 0 where that is not known. `idle_ns` is how long the thread did not run meanwhile, `preempted`
    that this was not of its own will: then no call counts as blocked because it took long.
    """
    if len(commands) == 0:
        empty = np.zeros(0)
        return CpuLane(empty, empty, np.zeros(0, bool), recorded_ns / 1e6)
    start = began_ns if 0 < began_ns <= int(times[0][0]) else int(times[0][0])
    begin, end = ((at.astype(np.int64) - start) / 1e6 for at in times)
    waits = waits.copy()
    if not preempted:
        blocked = _blocked(commands, end - begin) & ~waits
        # calls cannot have waited for longer than the thread did not run
        if idle_ns is None or (end - begin)[blocked].sum() * 1e6 <= _MOST_OF_IDLE * idle_ns:
            waits |= blocked
    return CpuLane(begin, end, waits, recorded_ns / 1e6 if start == began_ns else 0.0)


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
