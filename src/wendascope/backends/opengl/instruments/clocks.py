"""The clocks that the executor reads between calls, three at once."""

from __future__ import annotations

import numpy as np

from wendascope.backends.doors import Floats
from wendascope.backends.opengl.calls.packed import CallBatch

READING_BYTES = 32
"""From one reading to the next in the output of a batch: three words, and room."""


def read_clocks(batch: CallBatch, drained: bool) -> None:
    """Add a reading to a batch, after the pipeline was drained or at once."""
    batch.call("wendaDrainedClock" if drained else "wendaClock", batch.out(24))


def readings(data: bytes) -> Floats:
    """Readings one after another, in ms, shape (readings, 3)."""
    return np.frombuffer(data, np.uint64).reshape(-1, 4)[:, :3].astype(np.float64) / 1e6
