"""The watch over a replay process, started before anything large is imported."""

from __future__ import annotations

import ctypes

from wendascope.errors import MachineError
from wendascope.registry import native_library


def guard(connection_fd: int, seconds: int) -> None:
    """End this process when the other end of a socket is gone, or when one call takes too long: `seconds`, or with
    0 as long as such a call may take (see guard.c). Raises MachineError.
    """
    library = ctypes.CDLL(str(native_library()))
    library.tap_guard.argtypes = [ctypes.c_int, ctypes.c_uint]
    if library.tap_guard(connection_fd, seconds):
        raise MachineError(
            "no thread can be started to watch over the replay; raise the limit of processes (ulimit -u)"
        )
