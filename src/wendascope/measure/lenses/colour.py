"""The colour lens: the first colour buffer of the target, as eight-bit values."""

from __future__ import annotations

import numpy as np

from wendascope.backends.doors import Session
from wendascope.frame.frame import Picture
from wendascope.measure.lenses._registry import Found, Image, Place, lens
from wendascope.measure.lenses.depth import measure_depth, paint_depth, probe_depth
from wendascope.task import Task


def _paint(found: Found) -> Image:
    if "pixels" not in found:
        return paint_depth(found)
    return np.ascontiguousarray(found["pixels"][::-1, :, :3])


def _probe(found: Found, x: int, y: int) -> str:
    if "pixels" not in found:
        return probe_depth(found, x, y)
    red, green, blue, alpha = (int(v) for v in found["pixels"][y, x])
    return f"red {red}  green {green}  blue {blue}  alpha {alpha}"


@lens("colour", "Colour", 1, _paint, _probe)
def measure(session: Session, job: Task, place: Place) -> Found:
    """`pixels` (h, w, 4) uint8, bottom row first; a target without colour gives its depth instead."""
    shown = session.read_target(place.target)
    if isinstance(shown, Picture):
        return {"pixels": shown.pixels}
    return measure_depth(session, job, place)
