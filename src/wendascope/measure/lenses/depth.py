"""The depth lens: depth of the target, stretched over the range that occurs, near light and far dark. Where the draws
share a perspective, as distances along the view.
"""

from __future__ import annotations

import numpy as np

from wendascope.analysis.geometry.projection import perspective_of
from wendascope.backends.doors import Session
from wendascope.frame.contents import ImageValues
from wendascope.measure.exposure import DEPTH, DISTANCE, automatic, exposed
from wendascope.measure.lenses._registry import Found, Image, Place, lens
from wendascope.task import Task


def depth_values(found: Found) -> tuple[ImageValues, str]:
    """Depths; where they are known, distances, infinite where nothing was drawn."""
    if "distance" not in found:
        return ImageValues(["depth"], found["depth"][..., None]), DEPTH
    distance = np.where(found["depth"] >= 1.0, np.float32(np.inf), found["distance"])
    return ImageValues(["distance"], distance[..., None]), DISTANCE


def paint_depth(found: Found) -> Image:
    """Grey by depth, stretched over what was drawn, shape (height, width, 3)."""
    values, kind = depth_values(found)
    return exposed(values, kind, automatic(values, kind, window=False))


def probe_depth(found: Found, x: int, y: int) -> str:
    """The depth of a pixel, in words."""
    depth = f"depth {float(found['depth'][y, x]):.6f}"
    if "distance" not in found or not np.isfinite(found["distance"][y, x]):
        return depth
    return f"distance {float(found['distance'][y, x]):.4g}  {depth}"


def depth_note(found: Found) -> str:
    """Where distances come from."""
    return f"distance along the view, by {found['by']}" if "by" in found else ""


def measure_depth(session: Session, job: Task, place: Place) -> Found:
    """Depth of the target, shape (height, width), 0 near to 1 far; `distance` in the program's own units and the matrix
    `by` which it is known, where the draws up to here share one.
    """
    found: Found = {"depth": session.read_target_depth(place.target)}
    perspective = perspective_of(session.frame, place.step) if place.step is not None else None
    if perspective is not None and place.step is not None:
        range_ = session.frame.uses.depth_range(place.step)
        found |= {"distance": perspective.distance(found["depth"], *range_), "by": perspective.matrix}
    return found


lens("depth", "Depth", 4, paint_depth, probe_depth, values=depth_values, note=depth_note)(measure_depth)
