"""The doors of `backends.Backend`, for OpenGL and OpenGL ES."""

from __future__ import annotations

import numpy as np

from wendascope.backends.doors import Changes, Code
from wendascope.backends.opengl.changes.batching import NewObjects, plan_batch
from wendascope.backends.opengl.changes.frame_change import FrameChange
from wendascope.backends.opengl.frame import opengl_frame
from wendascope.backends.opengl.session import OpenGLSession
from wendascope.backends.opengl.taking import OpenGLTaking
from wendascope.backends.taking import Held, Stand
from wendascope.frame.frame import Frame
from wendascope.frame.remedy import Part
from wendascope.frame.steps import KINDS
from wendascope.registry import GL

_LIGHTS = 8
"""Of the fixed-function pipeline."""


def taking(target: Held, stand: Stand) -> OpenGLTaking:
    """See `Backend`."""
    return OpenGLTaking(target, stand)


def session(frame: Frame, progress: int | None = None) -> OpenGLSession:
    """See `Backend`."""
    return OpenGLSession(opengl_frame(frame), progress)


def changes(frame: Frame, space: int, painted: bool) -> Changes:
    """See `Backend`."""
    return FrameChange(opengl_frame(frame), space=space, painted=painted)


def batch_code(frame: Frame, part: Part) -> list[Code]:
    """See `Backend`."""
    known = opengl_frame(frame)
    return plan_batch(known, part, NewObjects(known)).code


def fixed_lights(frame: Frame) -> dict[int, list[int]]:
    """See `Backend`; steps without a vertex shader are lit."""
    known = opengl_frame(frame)
    calls = np.asarray(known.steps.call)
    if known.context.profile == "core" or known.context.es:
        return {}

    def on(capability: int) -> np.ndarray:
        return np.asarray(known.history.column("capability", calls, capability) == 1)

    shaded = [p.name for p in known.objects.programs if any(s.type == GL.VERTEX_SHADER for s in p.shaders)]
    drawing = np.asarray(known.steps.kind) == KINDS.index("draw")
    lit = on(GL.LIGHTING) & drawing & ~np.isin(known.steps.program, shaded)
    shining = {light: np.flatnonzero(lit & on(GL.LIGHT0 + light)).tolist() for light in range(_LIGHTS)}
    return {light: steps for light, steps in shining.items() if steps}
