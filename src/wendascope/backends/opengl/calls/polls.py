"""Calls that ask again and again whether the GPU is done: the thread runs meanwhile, and waits all the same."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
import numpy.typing as npt

from wendascope.registry import GL

if TYPE_CHECKING:
    from wendascope.backends.opengl.frame import OpenGLFrame

_LEAST = 3
"""Questions in a row from which on they are a wait."""
_BETWEEN = 2
"""Calls that the next question comes after, at most: a flush may lie between."""


def polls(frame: OpenGLFrame) -> list[tuple[int, int]]:
    """(first, last) call of every run of questions about one query or fence that nothing else lies between."""
    asked = _questions(frame)
    found: list[tuple[int, int]] = []
    run: list[int] = []
    for call in [*sorted(asked), -1]:
        goes_on = bool(run) and call >= 0 and asked[call] == asked[run[-1]] and call - run[-1] <= _BETWEEN
        if not goes_on:
            if len(run) >= _LEAST:
                found.append((run[0], run[-1]))
            run = []
        run.append(call)
    return found


def as_waits(
    runs: list[tuple[int, int]], begin: npt.NDArray[np.uint64], end: npt.NDArray[np.uint64]
) -> tuple[npt.NDArray[np.uint64], npt.NDArray[np.bool_]]:
    """(when each call ended, ns; which calls are such waits), given what `polls` found: the first of a run lasts until
    its last has ended, and the others take no time of their own. Shape (calls,).
    """
    end, waiting = end.copy(), np.zeros(len(begin), bool)
    for first, last in runs:
        end[first] = end[last]
        end[first + 1 : last + 1] = begin[first + 1 : last + 1]
        waiting[first : last + 1] = True
    return end, waiting


def _questions(frame: OpenGLFrame) -> dict[int, tuple[str, int]]:
    """Call -> what it asks about."""
    calls, found = frame.calls, dict[int, tuple[str, int]]()
    for command, rows in calls.by_command():
        for call in rows.tolist() if command.canonical.startswith(("glGetQueryObject", "glClientWaitSync")) else ():
            if command.canonical.startswith("glClientWaitSync"):
                found[call] = "sync", int(calls.argument(call, "sync"))
            elif int(calls.argument(call, "pname")) == GL.QUERY_RESULT_AVAILABLE:
                found[call] = "query", int(calls.argument(call, "id"))
    return found
