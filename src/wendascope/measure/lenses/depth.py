"""The depth lens: depth of the target, stretched over the range that occurs, near light and far dark."""

from __future__ import annotations

from wendascope.backends.doors import Session
from wendascope.frame.contents import ImageValues
from wendascope.measure.exposure import DEPTH, depth_range, shaded_depth
from wendascope.measure.lenses._registry import Found, Image, Place, lens
from wendascope.task import Task


def paint_depth(found: Found) -> Image:
    """Grey by depth, stretched over what was drawn, shape (height, width, 3)."""
    depth = found["depth"][::-1]
    return shaded_depth(depth, *depth_range(depth))


def probe_depth(found: Found, x: int, y: int) -> str:
    """The depth of a pixel, in words."""
    return f"depth {float(found['depth'][y, x]):.6f}"


def _values(found: Found) -> tuple[ImageValues, str]:
    return ImageValues(["depth"], found["depth"][..., None]), DEPTH


def measure_depth(session: Session, job: Task, place: Place) -> Found:
    """Depth of the target, shape (height, width), 0 near to 1 far."""
    return {"depth": session.read_target_depth(place.target)}


lens("depth", "Depth", 4, paint_depth, probe_depth, values=_values)(measure_depth)
