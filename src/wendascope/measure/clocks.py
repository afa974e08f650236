"""The clocks of a run: read by the executor between calls, three at once."""

from __future__ import annotations

from enum import StrEnum

import numpy as np
import numpy.typing as npt

from wendascope.backends.opengl.calls.packed import CallBatch

Floats = npt.NDArray[np.float64]
WALL, CPU, THREAD = range(3)
"""Columns of a reading: the time of the wall, the CPU time of all threads of this process, that of this thread."""
READING_BYTES = 32
"""From one reading to the next in the output of a batch: three words, and room."""


class Clock(StrEnum):
    """A way of measuring the work of a span."""

    QUERY = "timer query"
    DRAIN = "drain"
    """The time of the wall between two drains."""
    CPU = "CPU time"
    """The CPU time of all threads of the replay process between two drains: on a software driver they are the GPU."""


def read_clocks(batch: CallBatch, drained: bool) -> None:
    """Add a reading to a batch, after the pipeline was drained or at once."""
    batch.call("wendaDrainedClock" if drained else "wendaClock", batch.out(24))


def readings(data: bytes) -> Floats:
    """Readings one after another, in ms, shape (readings, 3)."""
    return np.frombuffer(data, np.uint64).reshape(-1, 4)[:, :3].astype(np.float64) / 1e6
