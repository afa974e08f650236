"""The colour lens: the first colour buffer of the target, as eight-bit values."""

from __future__ import annotations

from typing import Any

import numpy as np

from wendascope.frame.frame import Picture
from wendascope.frame.passes import Target
from wendascope.measure.lenses._registry import Image, lens
from wendascope.measure.lenses.depth import measure_depth, paint_depth, probe_depth
from wendascope.replay.session import ReplaySession


def _paint(found: dict[str, Any]) -> Image:
    if "pixels" not in found:
        return paint_depth(found)
    return np.ascontiguousarray(found["pixels"][::-1, :, :3])


def _probe(found: dict[str, Any], x: int, y: int) -> str:
    if "pixels" not in found:
        return probe_depth(found, x, y)
    red, green, blue, alpha = (int(v) for v in found["pixels"][y, x])
    return f"red {red}  green {green}  blue {blue}  alpha {alpha}"


@lens("colour", "Colour", _paint, _probe)
def measure(session: ReplaySession, target: Target) -> dict[str, Any]:
    """`pixels` (h, w, 4) uint8, bottom row first; a target without colour gives its depth instead."""
    shown = session.read_target(target)
    if isinstance(shown, Picture):
        return {"pixels": shown.pixels}
    return measure_depth(session, target)
