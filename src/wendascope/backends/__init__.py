"""The graphics interfaces that frames are made with, each behind the same doors (`doors.py`)."""

from __future__ import annotations

import importlib
from typing import Protocol, cast

from wendascope.backends.doors import Changes, Code, Session
from wendascope.errors import TrialError
from wendascope.frame.frame import Frame
from wendascope.frame.remedy import Part

MODULES = {"OpenGL": "wendascope.backends.opengl.backend", "OpenGL ES": "wendascope.backends.opengl.backend"}
"""API of a frame -> the module that is a `Backend` for it."""


class Backend(Protocol):
    """What a module has to offer to be one."""

    def session(self, frame: Frame, progress: int | None = None) -> Session:
        """Rebuild a frame in this process. `progress` is the address of a word that tells how far a run is. Raises
        MachineError, ReplayError.
        """

    def changes(self, frame: Frame, space: int, painted: bool) -> Changes:
        """No change of a frame yet. Changes whose objects are there at the same time have different `space`s."""

    def batch_code(self, frame: Frame, part: Part) -> list[Code]:
        """What a programmer would write to draw some steps as one. Raises TrialError where that cannot be."""

    def fixed_lights(self, frame: Frame) -> dict[int, list[int]]:
        """Light of a fixed-function pipeline -> steps that it shines on."""


def _backend(frame: Frame) -> Backend:
    module = MODULES.get(frame.context.api)
    if module is None:
        raise TrialError(f"changes of a frame of {frame.context.api} cannot be made yet")
    return cast(Backend, importlib.import_module(module))


def session(frame: Frame, progress: int | None = None) -> Session:
    """See `Backend.session`."""
    return _backend(frame).session(frame, progress)


def changes(frame: Frame, space: int = 0, painted: bool = False) -> Changes:
    """See `Backend.changes`. Raises TrialError for an API without a backend."""
    return _backend(frame).changes(frame, space, painted)


def batch_code(frame: Frame, part: Part) -> list[Code]:
    """See `Backend.batch_code`."""
    return _backend(frame).batch_code(frame, part)


def fixed_lights(frame: Frame) -> dict[int, list[int]]:
    """See `Backend.fixed_lights`; none for an API without a backend."""
    return _backend(frame).fixed_lights(frame) if frame.context.api in MODULES else {}
