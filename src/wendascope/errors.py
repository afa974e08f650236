"""Every error a user can meet, as one tree.

    WendascopeError
      UsageError            exit 2   what was asked for makes no sense
      FileError             exit 3   the file cannot be read or written
        DamagedFileError             it is ours but damaged, or not ours at all
        NewerFileError               made by a newer Wendascope
      TargetError           exit 4   the program under study failed or drew nothing
      MachineError          exit 5   this machine lacks something
      ReplayError           exit 1   the frame could not be replayed
        ReplayCrashedError  exit 6   the replay process died, or was ended; names the step
      TrialError            exit 1   a remedy cannot be tried on this frame
      CancelledError        exit 1   the user stopped it
      InternalError         exit 7   a mistake of ours; its trace is in the log

Messages are one line: what, where, and what to do.
"""

from __future__ import annotations


class WendascopeError(Exception):
    """Base of all errors that are shown to the user as one line."""

    exit_code = 1


class UsageError(WendascopeError):
    exit_code = 2


class FileError(WendascopeError):
    exit_code = 3


class DamagedFileError(FileError):
    pass


class NewerFileError(FileError):
    pass


class TargetError(WendascopeError):
    """`output` holds the last lines the target wrote."""

    exit_code = 4

    def __init__(self, message: str, output: str = "") -> None:
        super().__init__(message)
        self.output = output


class MachineError(WendascopeError):
    exit_code = 5


class ReplayError(WendascopeError):
    pass


class ReplayCrashedError(ReplayError):
    """`call` is the index of the call that was running, or None."""

    exit_code = 6

    def __init__(self, message: str, call: int | None = None) -> None:
        super().__init__(message)
        self.call = call


class TrialError(WendascopeError):
    pass


class CancelledError(WendascopeError):
    pass


class InternalError(WendascopeError):
    """Something that no other error stands for."""

    exit_code = 7

    @classmethod
    def of(cls, error: Exception) -> InternalError:
        """The error as one line, with the original as its cause."""
        text = str(error).splitlines()[0] if str(error) else ""
        made = cls(f"an error of Wendascope itself, {type(error).__name__}: {text}; its trace is in the log")
        made.__cause__ = error
        return made


_TOLD: dict[str, type[WendascopeError]] = {
    kind.__name__: kind
    for kind in (
        UsageError, FileError, DamagedFileError, NewerFileError, TargetError, MachineError, ReplayError, TrialError,
        CancelledError, InternalError,
    )
}  # fmt: skip
"""What a confined process may say of itself: that it crashed, only who listens to it knows."""


def error_named(name: str) -> type[WendascopeError]:
    """The class that a confined process names; ReplayError for anything else it may say."""
    return _TOLD.get(name, ReplayError)


EXIT_CODES = {
    0: "the answer is yes, or the work is done",
    1: "the answer is no",
    2: "wrong usage",
    3: "a file cannot be read or written",
    4: "the program under study failed or drew nothing",
    5: "this machine lacks something",
    6: "the replay process crashed",
    7: "a mistake of Wendascope itself; its trace is in the log",
}
"""What each exit code of the command line says."""
