"""Rectangles whose areas are as given, as near to squares as they can be: the layout of a treemap.

After Bruls, Huizing and van Wijk, "Squarified Treemaps" (2000).
"""

from __future__ import annotations

from collections.abc import Sequence

Rectangle = tuple[float, float, float, float]
"""x, y, width, height."""


def squarified(sizes: Sequence[float], x: float, y: float, width: float, height: float) -> list[Rectangle]:
    """One rectangle for each of `sizes`, which are positive and come largest first; together they fill the room."""
    whole = sum(sizes)
    if not sizes or whole <= 0 or width <= 0 or height <= 0:
        return [(x, y, 0.0, 0.0)] * len(sizes)
    scale = width * height / whole
    areas = [size * scale for size in sizes]
    found: list[Rectangle] = []
    at = 0
    while at < len(areas):
        side = min(width, height)
        end, row = _row(areas, at, side)
        thick = row / side if side > 0 else 0.0
        if end == len(areas):  # what rounding leaves goes to the last row
            thick = width if width >= height else height
        along = 0.0
        for area in areas[at:end]:
            length = area / thick if thick > 0 else 0.0
            found.append((x, y + along, thick, length) if width >= height else (x + along, y, length, thick))
            along += length
        if width >= height:
            x, width = x + thick, max(width - thick, 0.0)
        else:
            y, height = y + thick, max(height - thick, 0.0)
        at = end
    return found


def _row(areas: Sequence[float], start: int, side: float) -> tuple[int, float]:
    """(end, area) of the row from `start` on along a side that keeps the worst of its rectangles most square."""
    end, row = start + 1, areas[start]
    largest = smallest = areas[start]
    worst = _worst(largest, smallest, row, side)
    while end < len(areas):
        area = areas[end]
        new = _worst(max(largest, area), min(smallest, area), row + area, side)
        if new > worst:
            break
        largest, smallest, row, worst = max(largest, area), min(smallest, area), row + area, new
        end += 1
    return end, row


def _worst(largest: float, smallest: float, row: float, side: float) -> float:
    """The largest ratio of sides in a row of such areas."""
    if row <= 0 or smallest <= 0 or side <= 0:
        return float("inf")
    return max(side * side * largest / (row * row), row * row / (side * side * smallest))
