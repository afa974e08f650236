"""Where changes of a frame become calls: so far for frames of OpenGL only."""

from __future__ import annotations

from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.errors import TrialError
from wendascope.frame.frame import Frame


def opengl(frame: Frame) -> OpenGLFrame:
    """The frame as one of OpenGL. Raises TrialError for any other, of which no change can be made yet."""
    if not isinstance(frame, OpenGLFrame):
        raise TrialError(f"changes of a frame of {frame.context.api} cannot be made yet")
    return frame
