"""The depth lens: depth of the target, stretched over the range that occurs, near light and far dark."""

from __future__ import annotations

import numpy as np

from wendascope.backends.doors import Session
from wendascope.measure.lenses._registry import Found, Image, Place, lens
from wendascope.task import Task


def paint_depth(found: Found) -> Image:
    """Grey by depth, stretched over what was drawn, shape (height, width, 3)."""
    depth = found["depth"][::-1]
    sample = depth[:: max(1, depth.shape[0] // 512), :: max(1, depth.shape[1] // 512)]
    drawn = sample[sample < 1.0]
    if drawn.size == 0:
        return np.zeros((*depth.shape, 3), np.uint8)
    # the range that nearly all drawn pixels lie in: perspective crowds depth near 1
    low, high = np.quantile(drawn, (0.005, 0.995))
    scale = np.float32(-195 / max(float(high - low), 1e-9))
    shade = np.clip(np.float32(235) + (depth - np.float32(low)) * scale, 40, 235).astype(np.uint8)
    shade[depth >= 1.0] = 0
    return np.repeat(shade[:, :, None], 3, axis=2)


def probe_depth(found: Found, x: int, y: int) -> str:
    """The depth of a pixel, in words."""
    return f"depth {float(found['depth'][y, x]):.6f}"


def measure_depth(session: Session, job: Task, place: Place) -> Found:
    """Depth of the target, shape (height, width), 0 near to 1 far."""
    return {"depth": session.read_target_depth(place.target)}


lens("depth", "Depth", 4, paint_depth, probe_depth)(measure_depth)
