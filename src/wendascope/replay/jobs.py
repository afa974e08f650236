"""Jobs: the functions that a replay process runs for others, with typed arguments and results.

    @remote
    def picture_at(session: Session, job: Task, step: int | None = None) -> Picture: ...

    picture_at(session, job, step=3)                      # within the replay process
    replay.run(picture_at.asked(step=3), progress)        # from outside; returns a Picture

Arguments and results travel as MessagePack, by the annotations of the function. Nothing can be asked for by name but
what is marked so.
"""

from __future__ import annotations

import functools
import importlib
import inspect
import typing
from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, Concatenate, Generic, ParamSpec, TypeVar

import msgspec

from wendascope.errors import ReplayError
from wendascope.replay import wire

if TYPE_CHECKING:
    from wendascope.backends.doors import Session
    from wendascope.task import Task

P = ParamSpec("P")
R = TypeVar("R")
S = TypeVar("S")
T = TypeVar("T")
_PACKAGE = "wendascope."
_OFFERS = ("measure.", "trials.")
"""Where jobs stand: a name from outside leads to no import of anything else."""
_known: dict[str, RemoteJob[..., Any]] = {}


@dataclass(frozen=True)
class Asked(Generic[R]):
    """A job with its arguments, ready to be sent."""

    job: RemoteJob[..., R]
    arguments: bytes


class RemoteJob(Generic[P, R]):
    """A function of the session that can be asked for from outside."""

    def __init__(self, function: Callable[Concatenate[Any, Any, P], R]) -> None:
        self._function = function
        self.name = f"{function.__module__.removeprefix(_PACKAGE)}.{function.__name__}"
        functools.update_wrapper(self, function)

    def __call__(self, session: Session, job: Task, *args: P.args, **kwargs: P.kwargs) -> R:
        return self._function(session, job, *args, **kwargs)

    def asked(self, *args: P.args, **kwargs: P.kwargs) -> Asked[R]:
        """The job with some arguments. Raises TypeError where they do not fit it."""
        bound = self._signature.bind(*args, **kwargs)
        return Asked(self, wire.pack(self._arguments(**bound.arguments)))

    def result(self, data: bytes) -> R:
        """What an answer holds. Raises msgspec.ValidationError."""
        found: R = wire.unpack(data, self._hints["return"])
        return found

    def run(self, session: Session, job: Task, arguments: bytes) -> bytes:
        """Run it for somebody outside. Raises ReplayError where the arguments are not its own."""
        try:
            given = wire.unpack(arguments, self._arguments)
        except (msgspec.MsgspecError, ValueError) as error:
            raise ReplayError(f"{self.name} was asked for with wrong arguments: {error}") from error
        values = {name: getattr(given, name) for name in self._arguments.__struct_fields__}
        return wire.pack(self._function(session, job, **values))  # type: ignore[call-arg]

    @functools.cached_property
    def _hints(self) -> dict[str, Any]:
        return typing.get_type_hints(self._function)

    @functools.cached_property
    def _signature(self) -> inspect.Signature:
        """Of the function without session and job."""
        whole = inspect.signature(self._function)
        return whole.replace(parameters=list(whole.parameters.values())[2:])

    @functools.cached_property
    def _arguments(self) -> type[msgspec.Struct]:
        fields: list[Any] = []
        for parameter in self._signature.parameters.values():
            hint = self._hints[parameter.name]
            plain = parameter.default is inspect.Parameter.empty
            fields.append((parameter.name, hint) if plain else (parameter.name, hint, parameter.default))
        return msgspec.defstruct(f"{self.name} arguments", fields, forbid_unknown_fields=True)


def remote(function: Callable[Concatenate[S, T, P], R]) -> RemoteJob[P, R]:
    """Mark a function of session and job as one that can be asked for from outside."""
    made = RemoteJob(function)
    _known[made.name] = made
    return made


def job_named(name: str) -> RemoteJob[..., Any]:
    """The job of a name. Raises ReplayError unless there is one."""
    module = name.rpartition(".")[0]
    if name not in _known and module.startswith(_OFFERS) and module.replace(".", "").replace("_", "").isalnum():
        try:
            importlib.import_module(_PACKAGE + module)
        except ModuleNotFoundError as error:
            raise ReplayError(f"there is no job called {name}") from error
    if name not in _known:
        raise ReplayError(f"there is no job called {name}")
    return _known[name]
