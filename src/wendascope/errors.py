"""Every error a user can meet, as one tree.

    WendascopeError
      UsageError            exit 2   what was asked for makes no sense
      FileError             exit 3   the file cannot be read or written
        DamagedFileError             it is ours but damaged, or not ours at all
        NewerFileError               made by a newer Wendascope
      TargetError           exit 4   the program under study failed or drew nothing
      MachineError          exit 5   this machine lacks something
      ReplayError           exit 1   the frame could not be replayed
        ReplayCrashedError           the replay process died; names the step
      TrialError            exit 1   a remedy cannot be tried on this frame
      CancelledError        exit 1   the user stopped it
      InternalError         exit 1   a mistake of ours; its trace is in the log

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

    def __init__(self, message: str, call: int | None = None) -> None:
        super().__init__(message)
        self.call = call


class TrialError(WendascopeError):
    pass


class CancelledError(WendascopeError):
    pass


class InternalError(WendascopeError):
    """Something that no other error stands for."""

    @classmethod
    def of(cls, error: Exception) -> InternalError:
        """The error as one line, with the original as its cause."""
        text = str(error).splitlines()[0] if str(error) else ""
        made = cls(f"an error of Wendascope itself, {type(error).__name__}: {text}; its trace is in the log")
        made.__cause__ = error
        return made


def error_named(name: str) -> type[WendascopeError]:
    """The class of the tree that a confined process names; ReplayError for anything else it may say."""
    waiting: list[type[WendascopeError]] = [WendascopeError]
    while waiting:
        kind = waiting.pop()
        if kind.__name__ == name:
            return kind
        waiting += kind.__subclasses__()
    return ReplayError
