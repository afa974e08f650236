"""Draws given vertex by vertex (glBegin ... glEnd) in a row, with nothing but vertex attributes between them."""

from __future__ import annotations

from typing import TYPE_CHECKING

from wendascope.registry import GL, Role

if TYPE_CHECKING:
    from wendascope.backends.opengl.frame import OpenGLFrame

LISTS = (GL.POINTS, GL.LINES, GL.TRIANGLES, GL.QUADS)
"""Modes in which the vertices of several draws can stand in a row."""
AS_TRIANGLES = (GL.TRIANGLES, GL.POLYGON, GL.TRIANGLE_FAN, GL.TRIANGLE_STRIP)
"""Modes that triangles can be written for."""


def joinable_runs(frame: OpenGLFrame) -> list[list[int]]:
    """Runs of at least two steps that one glBegin ... glEnd could take the place of, each of one pass."""
    calls, steps = frame.calls, frame.steps
    begins = set(calls.calls_of("glBegin").tolist())
    if not begins:
        return []
    plain = calls.having(Role.OF_VERTEX)
    inside = plain | calls.having(Role.PLAIN_VERTEX)
    runs: list[list[int]] = []
    for step in range(len(steps)):
        first, end = int(steps.begin[step]), int(steps.call[step])
        if first not in begins or not inside[first + 1 : end].all():
            continue
        mode = int(calls.argument(first, "mode"))
        if mode not in LISTS + AS_TRIANGLES:
            continue
        before = runs[-1][-1] if runs else -1
        if (
            before == step - 1
            and before >= 0
            and frame.passes.of_step[before] == frame.passes.of_step[step]
            and _together(mode, int(calls.argument(int(steps.begin[before]), "mode")))
            and plain[int(steps.call[before]) + 1 : first].all()
        ):
            runs[-1].append(step)
        else:
            runs.append([step])
    return [run for run in runs if len(run) > 1]


def _together(a: int, b: int) -> bool:
    return a == b or (a in AS_TRIANGLES and b in AS_TRIANGLES)
