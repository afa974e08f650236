"""The triangle density lens: how many triangles share a small square of the picture."""

from __future__ import annotations

import numpy as np

from wendascope.backends.doors import Session
from wendascope.measure.lenses._registry import Found, Image, LegendEntry, Place, lens
from wendascope.measure.lenses._relief import Relief, ranges
from wendascope.measure.overdraw import geometry_of, passes_shown
from wendascope.task import Task

CELL = 8
"""Pixels along one side of a square."""
_BOUNDS = (1, 2, 4, 8, 16, 64, 256)
_RELIEF = Relief(_BOUNDS, ranges(_BOUNDS))


def _spread(found: Found) -> np.ndarray:
    """One value a pixel."""
    return np.repeat(np.repeat(found["density"], CELL, axis=0), CELL, axis=1)[: found["height"], : found["width"]]


def _paint(found: Found) -> Image:
    return _RELIEF.paint(_spread(found))


def _legend(found: Found) -> list[LegendEntry]:
    return _RELIEF.legend(found["density"])


def _probe(found: Found, x: int, y: int) -> str:
    count = int(found["density"][y // CELL, x // CELL])
    return f"{count:,} triangles in {CELL} x {CELL} pixels, {count / CELL**2:.2f} per pixel"


@lens("density", "Triangle density", 3, _paint, _probe, replays=False, legend=_legend)
def measure_density(session: Session, job: Task, place: Place) -> Found:
    """`density` (rows, columns): triangles facing the viewer whose middle lies in each square, hidden ones too."""
    width, height = max(place.target.width, 1), max(place.target.height, 1)
    rows, columns = -(-height // CELL), -(-width // CELL)
    total = np.zeros(rows * columns, np.int64)
    wanted = set(passes_shown(session, place.step))
    of_step = session.frame.passes.of_step
    for step, triangles in geometry_of(session, job).triangles.items():
        if int(of_step[step]) not in wanted or (place.step is not None and step > place.step):
            continue
        middle = triangles.centre[triangles.seen]
        x, y = np.floor(middle[:, 0] / CELL), np.floor(middle[:, 1] / CELL)
        inside = (x >= 0) & (y >= 0) & (x < columns) & (y < rows)
        total += np.bincount((y[inside] * columns + x[inside]).astype(np.int64), minlength=rows * columns)
    return {"density": total.reshape(rows, columns), "width": width, "height": height}
