"""Who bounds the frame, the CPU or the GPU, by what the running program itself shows: its heartbeats and its waits."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from wendascope.frame.frame import Frame
from wendascope.frame.waits import waits

_BLOCKED_SHARE = 0.15
"""A program that spends this share of its frames waiting is bound by what it waits for."""


@dataclass(frozen=True)
class Bound:
    """`who` is `CPU`, `GPU` or `unclear`; the sentence gives the numbers behind it."""

    who: str
    sentence: str
    frame_ms: float
    blocked_ms: float


def bound_by(cpu_ms: Sequence[float], swap_ms: Sequence[float], waits_ms: float | None = None, longest_wait: str = "") -> Bound | None:
    """From the frames before the capture: CPU time between swaps and time blocked in the swap, ms, one entry a frame.

    `waits_ms` is the time that the recorded frame spent in calls that wait; None while none was recorded, since
    heartbeats alone cannot tell a driver that works from one that waits. Returns None without frames.
    """
    if len(cpu_ms) == 0:
        return None
    cpu, swap = float(np.median(cpu_ms)), float(np.median(swap_ms))
    frame = cpu + swap
    waiting = min(waits_ms or 0.0, cpu)
    blocked = swap + waiting
    parts = f"in {len(cpu_ms)} frames, {cpu:.1f} ms between swaps and {swap:.1f} ms blocked in the swap"
    if waiting >= 0.1:
        parts += f"; of the recorded frame, {waiting:.1f} ms in calls that wait" + (f" (longest: {longest_wait})" if longest_wait else "")
    if frame <= 0:
        return Bound("unclear", parts, frame, blocked)
    share = blocked / frame
    if share >= _BLOCKED_SHARE:
        return Bound("GPU", f"The program waits for the GPU {share:.0%} of its time: {parts}.", frame, blocked)
    if waits_ms is None:
        return Bound("unclear", f"It hardly waits in the swap: {parts}. A captured frame tells whether calls in between wait.", frame, blocked)
    return Bound("CPU", f"The program hardly waits ({share:.0%} of its time), so the CPU sets the pace: {parts}.", frame, blocked)


def frame_bound(frame: Frame) -> Bound | None:
    """The same for a captured frame: by the heartbeats before it and the waits recorded in it."""
    found = waits(frame)
    longest = f"{found[0].command} for {found[0].what}, {found[0].ms:.1f} ms" if found else ""
    cpu, swap = ([getattr(b, name) / 1e6 for b in frame.heartbeats] for name in ("cpu_ns", "swap_ns"))
    return bound_by(cpu, swap, sum(w.ms for w in found), longest)
