"""Who bounds the frame, the CPU or the GPU, by what the running program itself shows: statistics and waits."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from wendascope.frame.cpu import PREEMPTED_TIMES
from wendascope.frame.frame import Frame
from wendascope.texts import share as per_cent

_BLOCKED_SHARE = 0.15
"""A program that spends this share of its frames waiting is bound by what it waits for."""
CPU, GPU, ELSEWHERE, UNCLEAR = "CPU", "GPU", "elsewhere", "unclear"


@dataclass(frozen=True)
class Bound:
    """`who` is CPU, GPU, ELSEWHERE (it waits for something that is not OpenGL) or UNCLEAR; the sentence gives the
    numbers behind it.
    """

    who: str
    sentence: str
    frame_ms: float
    """From frame end to frame end, without the time that other programs kept it from running."""
    blocked_ms: float
    """Of that, waiting in OpenGL calls and in the swap."""
    cpu_ms: float | None = None
    """CPU time per frame of the thread that ends the frames; None where it was not recorded."""


def bound_by(
    cpu_ms: Sequence[float], swap_ms: Sequence[float], waits_share: float | None = None, longest_wait: str = "",
    thread_ms: Sequence[float] = (), switches: Sequence[tuple[int, int]] = (), waited_ms: Sequence[float] = (),
    own_share: float | None = None, polled_share: float = 0.0,
) -> Bound | None:  # fmt: skip
    """From the frames before the capture, one entry per frame: time between swaps, time blocked in the swap and CPU
    time of the thread, ms, its (voluntary, involuntary) switches, and the time in calls that can block for earlier
    work.

    `waits_share` is the part of the recorded frame that passed in calls that wait; None while none was recorded,
    since frame statistics alone cannot tell a driver that works from one that waits. `own_share` is the part of it
    outside OpenGL calls: while the thread does not run, it waits in calls for what is more than that, and elsewhere
    for what is more than the rest. `polled_share` is the part in which the thread ran, but to ask whether the GPU was
    done. Returns None without frames.
    """
    if len(cpu_ms) == 0:
        return None
    between, swap = float(np.median(cpu_ms)), float(np.median(swap_ms))
    frame = between + swap
    known = [ms for ms in thread_ms if ms > 0]
    thread = min(float(np.median(known)), frame) if known else None
    if thread is not None:
        thread = max(thread - polled_share * between, 0.0)
    waited = float(np.median(waited_ms)) if len(waited_ms) else 0.0
    blocked = min(
        swap + max(waited, (waits_share or 0.0) * between), frame if thread is None else max(frame - thread, 0.0)
    )
    elsewhere = 0.0
    if thread is not None and own_share is not None:
        idle, own = max(frame - thread, 0.0), own_share * between
        blocked = max(blocked, idle - own)
        elsewhere = max(min(idle - (frame - own), idle - blocked), 0.0)
    preempted = bool(switches) and float(np.median([i - PREEMPTED_TIMES * v for v, i in switches])) > 0
    if preempted and thread is not None:
        frame = min(frame, thread + blocked)
    parts = f"in {len(cpu_ms)} frames, {between:.1f} ms between swaps and {swap:.1f} ms blocked in the swap"
    if thread is not None:
        parts += f", with {thread:.1f} ms of CPU time on its thread"
    if waited >= 0.1:
        parts += f", {waited:.1f} ms in calls that wait for the GPU"
    if preempted:
        parts += ", which other programs kept from running meanwhile"
    if waits_share is not None and waits_share >= 0.01:
        parts += f"; {per_cent(waits_share)} of the recorded frame in calls that wait" + (
            f" (longest: {longest_wait})" if longest_wait else ""
        )
    if frame <= 0:
        return Bound(UNCLEAR, parts, frame, blocked, thread)
    share = blocked / frame
    if thread is not None and thread >= (1 - _BLOCKED_SHARE) * frame:
        return Bound(
            CPU,
            f"CPU-bound: the program computes {thread:.1f} of {frame:.1f} ms per frame: {parts}.",
            frame,
            blocked,
            thread,
        )
    if elsewhere >= _BLOCKED_SHARE * frame and elsewhere > blocked:
        return Bound(
            ELSEWHERE,
            f"The program waits {elsewhere:.1f} of {frame:.1f} ms per frame outside OpenGL (it sleeps or waits for"
            f" other threads): {parts}.",
            frame,
            blocked,
            thread,
        )
    if share >= _BLOCKED_SHARE:
        return Bound(
            GPU,
            f"GPU-bound: the program waits for the GPU {per_cent(share)} of its time: {parts}.",
            frame,
            blocked,
            thread,
        )
    if waits_share is None:
        return Bound(
            UNCLEAR,
            f"It hardly waits in the swap: {parts}. A captured frame shows whether calls in between wait.",
            frame,
            blocked,
            thread,
        )
    return Bound(
        CPU, f"CPU-bound: the program hardly waits ({per_cent(share)} of its time): {parts}.", frame, blocked, thread
    )


def frame_bound(frame: Frame) -> Bound | None:
    """The same for a captured frame: by the frame statistics before it and the waits recorded in it."""
    found = frame.waits
    longest = f"{found[0].command} for {found[0].what}, {found[0].ms:.1f} ms" if found else ""
    beats = frame.frame_statistics
    cpu, swap, thread = ([getattr(b, name) / 1e6 for b in beats] for name in ("cpu_ns", "swap_ns", "thread_ns"))
    recorded = frame.cpu_lane.frame_ms
    share = min(sum(w.ms for w in found) / recorded, 1.0) if recorded > 0 else 0.0
    own = min(frame.cpu_lane.own_ms / recorded, 1.0) if recorded > 0 else None
    return bound_by(
        cpu,
        swap,
        share,
        longest,
        thread,
        [(b.voluntary, b.involuntary) for b in beats],
        [b.waited_ns / 1e6 for b in beats],
        own,
        min(frame.polled_ms / recorded, 1.0) if recorded > 0 else 0.0,
    )
