"""Which values the render targets of a frame hold that have more than eight bits a channel."""

from __future__ import annotations

import numpy as np

from wendascope.analysis.memory.memory_use import TargetValues
from wendascope.backends.doors import Session
from wendascope.replay.jobs import remote
from wendascope.task import Task


@remote
def target_values(session: Session, job: Task) -> list[TargetValues]:
    """Of every target with one sample that can be read and is larger than it would be with eight bits a channel, after
    a replay of the frame. Raises ReplayError.
    """
    job.progress("values of render targets", 0.0)
    if not session.has_wide_targets():
        return []
    session.run(session.prepare())
    return [_summed(kind, name, image.channels, image.values) for kind, name, image in session.wide_targets()]


def _summed(kind: str, name: int, channels: list[str], values: np.ndarray) -> TargetValues:
    rows = values.reshape(-1, len(channels)).astype(np.float64)
    finite = bool(np.isfinite(rows).all())
    clean = np.nan_to_num(rows, nan=0.0, posinf=1e30, neginf=-1e30)
    return TargetValues(kind, name, channels, clean.min(axis=0).tolist(), clean.max(axis=0).tolist(), finite)
