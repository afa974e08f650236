"""The depth lens: depth of the target, stretched over the range that occurs, near light and far dark."""

from __future__ import annotations

from typing import Any

import numpy as np

from wendascope.frame.passes import Target
from wendascope.measure.lenses._registry import Image, lens
from wendascope.replay.session import ReplaySession


def paint_depth(found: dict[str, Any]) -> Image:
    depth = found["depth"]
    drawn = depth < 1.0
    grey = np.zeros(depth.shape, np.float32)
    if drawn.any():
        # perspective crowds depth near 1: equal counts of pixels per shade show all of it
        low, high = np.quantile(depth[drawn], (0.005, 0.995))
        linear = np.clip((depth - low) / max(float(high - low), 1e-9), 0, 1)
        grey[drawn] = 235 - 195 * linear[drawn]
    shade = np.ascontiguousarray(grey[::-1].astype(np.uint8))
    return np.repeat(shade[:, :, None], 3, axis=2)


def probe_depth(found: dict[str, Any], x: int, y: int) -> str:
    return f"depth {float(found['depth'][y, x]):.6f}"


def measure_depth(session: ReplaySession, target: Target) -> dict[str, Any]:
    return {"depth": session.read_target_depth(target)}


lens("depth", "Depth", paint_depth, probe_depth)(measure_depth)
