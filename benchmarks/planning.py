"""Plans of the fewest draws: frames of many small things that overlap here and there."""

from __future__ import annotations

import resource
import time
from collections.abc import Iterator

import numpy as np

from benchmarks.replaying import Row
from wendascope.analysis.draws.draw_order import Touched, plan

_WIDE, _HIGH = 240, 135


def _sprites(steps: int, groups: int, side: int, opaque: float) -> tuple[Touched, np.ndarray, np.ndarray]:
    """Squares of `side` tiles in random places, so many of them opaque."""
    random = np.random.default_rng(1)
    x, y = random.integers(0, _WIDE - side, steps), random.integers(0, _HIGH - side, steps)
    square = (np.arange(side)[:, None] * _WIDE + np.arange(side)[None]).ravel()
    tiles = ((y * _WIDE + x)[:, None] + square[None]).ravel()
    starts = np.arange(steps + 1, dtype=np.int64) * side * side
    return Touched(starts, tiles), random.integers(0, groups, steps), (random.random(steps) < opaque).astype(np.int64)


def plans() -> Iterator[Row]:
    for steps, groups, side, opaque, bar in (
        (10_000, 40, 4, 0.0, "<= 2 s"),
        (10_000, 40, 4, 0.9, "<= 2 s"),
        (100_000, 100, 3, 0.5, "<= 20 s"),
    ):
        case = _sprites(steps, groups, side, opaque)
        started = time.perf_counter()
        found = plan(*case)
        seconds = time.perf_counter() - started
        yield (
            f"plan of {steps:,} steps of {groups} groups, {opaque:.0%} opaque",
            f"{seconds:.2f} s: {len(found.draws):,} draws, at least {found.least:,}",
            bar,
        )
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    yield "memory of that", f"{peak:,.0f} MiB", "<= 2048 MiB"


BENCHMARKS = {"plans": plans}
