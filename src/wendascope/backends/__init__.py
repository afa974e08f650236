"""The graphics interfaces that frames are made with, each behind the same doors (`doors.py`)."""

from __future__ import annotations

from typing import Protocol, cast

from wendascope.backends.doors import Changes, Code, Session
from wendascope.backends.taking import Held, Stand, Taking
from wendascope.errors import TrialError
from wendascope.frame.apis import PACKAGES, module_of
from wendascope.frame.frame import Frame
from wendascope.frame.remedy import Part


class Backend(Protocol):
    """What a module has to offer to be one."""

    def taking(self, target: Held, stand: Stand) -> Taking:
        """Begin to take a frame of a held program: read its objects. Raises TargetError."""

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


def _backend(api: str) -> Backend:
    module = module_of(api, "backend")
    if module is None:
        raise TrialError(f"frames of {api} cannot be replayed or changed yet")
    return cast(Backend, module)


def taking(api: str, target: Held, stand: Stand) -> Taking:
    """See `Backend.taking`."""
    return _backend(api).taking(target, stand)


def session(frame: Frame, progress: int | None = None) -> Session:
    """See `Backend.session`."""
    return _backend(frame.context.api).session(frame, progress)


def changes(frame: Frame, space: int = 0, painted: bool = False) -> Changes:
    """See `Backend.changes`. Raises TrialError for an API without a backend."""
    return _backend(frame.context.api).changes(frame, space, painted)


def batch_code(frame: Frame, part: Part) -> list[Code]:
    """See `Backend.batch_code`."""
    return _backend(frame.context.api).batch_code(frame, part)


def fixed_lights(frame: Frame) -> dict[int, list[int]]:
    """See `Backend.fixed_lights`; none for an API without a backend."""
    return _backend(frame.context.api).fixed_lights(frame) if frame.context.api in PACKAGES else {}
