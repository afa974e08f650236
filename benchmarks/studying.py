"""The analysis of a frame's calls and steps without a replay, on a generated frame of 100,000 steps."""

from __future__ import annotations

import resource
import subprocess
import sys
import time
from collections.abc import Iterator

from benchmarks.replaying import Row
from tests.synthetic import crowded
from wendascope.analysis.draws.structure import study

STEPS = 100_000
_RUNS = 3


def structure() -> Iterator[Row]:
    """In processes of their own, so that the memory is that of one frame."""
    rows = [
        subprocess.run(
            [sys.executable, "-m", "benchmarks.studying"], capture_output=True, text=True, check=True
        ).stdout.split()
        for _ in range(_RUNS)
    ]
    seconds, memory, before = (sorted(float(row[k]) for row in rows) for k in range(3))
    yield (
        f"use, breaks, batches, switches of {STEPS:,} steps",
        f"{seconds[_RUNS // 2]:.2f} s ({seconds[0]:.2f} to {seconds[-1]:.2f})",
        "<= 2 s",
    )
    yield (
        "memory it takes, beyond the frame",
        f"{memory[_RUNS // 2] - before[_RUNS // 2]:.0f} MB, {memory[_RUNS // 2]:.0f} MB with it",
        "<= 500 MB",
    )


def main() -> None:
    frame = crowded(STEPS)
    frame.steps, frame.passes  # noqa: B018 - opening a frame works them out
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    started = time.perf_counter()
    study(frame)
    print(time.perf_counter() - started, resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024, before)


BENCHMARKS = {"structure": structure}

if __name__ == "__main__":
    main()
