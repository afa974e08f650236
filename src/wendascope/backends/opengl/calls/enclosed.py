"""Steps that stand between the calls which begin and end something."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
import numpy.typing as npt

if TYPE_CHECKING:
    from wendascope.backends.opengl.frame import OpenGLFrame

Mask = npt.NDArray[np.bool_]


def within_queries(frame: OpenGLFrame) -> Mask:
    """Steps that a query counts or times, shape (steps,)."""
    return _within(frame, "Query", "QueryARB", "QueryIndexed")


def within_feedback(frame: OpenGLFrame) -> Mask:
    """Steps whose vertices a transform feedback of the program's own takes, shape (steps,)."""
    return _within(frame, "TransformFeedback")


def _within(frame: OpenGLFrame, *names: str) -> Mask:
    begins, ends = (frame.calls.calls_of(*(f"gl{word}{name}" for name in names)) for word in ("Begin", "End"))
    return np.asarray(np.searchsorted(begins, frame.steps.call) > np.searchsorted(ends, frame.steps.call))
