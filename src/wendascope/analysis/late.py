"""Who bounds the frame, the CPU or the GPU, by what the running program itself shows: its heartbeats and its waits."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

_BLOCKED_SHARE = 0.15
"""A program that spends this share of its frames waiting is bound by what it waits for."""


@dataclass(frozen=True)
class Bound:
    """`who` is `CPU`, `GPU` or `unclear`; the sentence gives the numbers behind it."""

    who: str
    sentence: str
    frame_ms: float
    blocked_ms: float


def bound_by(cpu_ms: Sequence[float], swap_ms: Sequence[float], waits_ms: float = 0.0, longest_wait: str = "") -> Bound | None:
    """From the frames before the capture: CPU time between swaps and time blocked in the swap, ms, one entry a frame.

    `waits_ms` is the time that the recorded frame spent in calls that wait. Returns None without frames.
    """
    if len(cpu_ms) == 0:
        return None
    cpu, swap = float(np.median(cpu_ms)), float(np.median(swap_ms))
    frame = cpu + swap
    waiting = min(waits_ms, cpu)
    blocked = swap + waiting
    parts = f"in {len(cpu_ms)} frames, {cpu:.1f} ms between swaps and {swap:.1f} ms blocked in the swap"
    if waiting >= 0.1:
        parts += f"; of the recorded frame, {waiting:.1f} ms in calls that wait" + (f" (longest: {longest_wait})" if longest_wait else "")
    if frame <= 0:
        return Bound("unclear", parts, frame, blocked)
    share = blocked / frame
    if share >= _BLOCKED_SHARE:
        return Bound("GPU", f"The program waits for the GPU {share:.0%} of its time: {parts}.", frame, blocked)
    return Bound("CPU", f"The program hardly waits ({share:.0%} of its time), so the CPU sets the pace: {parts}.", frame, blocked)
