"""Runs packed calls in this process, through the tap's executor."""

from __future__ import annotations

import ctypes
import functools

import numpy as np
import numpy.typing as npt

from wendascope.backends.opengl.calls.packed import CallBatch, Out, Words
from wendascope.errors import ReplayError
from wendascope.registry import native_library

_REASONS = {
    1: "is malformed",
    2: "points outside the file's data",
    3: "has too little data",
    4: "is not offered by this driver",
    5: "passes an address where no buffer is bound",
}


@functools.cache
def _library() -> ctypes.CDLL:
    library = ctypes.CDLL(str(native_library()))
    library.tap_execute.restype = ctypes.c_int64
    library.tap_execute.argtypes = [
        ctypes.c_void_p, ctypes.c_uint64, ctypes.c_void_p, ctypes.c_uint64, ctypes.c_void_p, ctypes.c_uint64,
        ctypes.c_int, ctypes.c_void_p, ctypes.c_void_p,
    ]  # fmt: skip
    library.tap_set_surface.argtypes = [ctypes.c_uint64, ctypes.c_void_p, ctypes.c_void_p]
    library.tap_guard_doing.argtypes = [ctypes.c_char_p]
    return library


def set_surface(number: int, display: int, surface: int) -> None:
    """Give a window its number, by which `wendaDrawable` makes it current."""
    _library().tap_set_surface(number, display, surface)


def now_doing(what: str) -> None:
    """What the calls that follow are for, to be told should one of them take too long."""
    _library().tap_guard_doing(what.encode())


class LocalExecutor:
    """Executes in the context that is current in this thread.

    `progress` is the address of a 64-bit word that holds the index of the running call, or None.
    """

    def __init__(self, progress: int | None = None) -> None:
        self._progress = progress

    def execute(self, words: Words, arena: npt.NDArray[np.uint8], out: npt.NDArray[np.uint8]) -> None:
        """Run `words` (changed in place: results). Raises ReplayError, naming the call."""
        error = ctypes.c_int32()
        done = _library().tap_execute(
            words.ctypes.data, len(words), arena.ctypes.data, arena.nbytes, out.ctypes.data, out.nbytes,
            0, self._progress, ctypes.byref(error),
        )  # fmt: skip
        if error.value:
            raise ReplayError(f"call {done} {_REASONS.get(error.value, 'failed')}")

    def run(self, batch: CallBatch) -> None:
        """The `Executor` protocol."""
        words = np.array(batch.words, np.uint64)
        arena = np.frombuffer(bytes(batch.arena) + b"\0", np.uint8)
        out = np.zeros(batch.out_size + 64, np.uint8)
        self.execute(words, arena, out)
        batch.finish(words, out.tobytes())


class PackedBatch:
    """A batch that is run again and again, packed once."""

    def __init__(self, executor: LocalExecutor, batch: CallBatch) -> None:
        self._executor, self._batch = executor, batch
        self._words = np.array(batch.words, np.uint64)
        self._arena = np.frombuffer(bytes(batch.arena) + b"\0", np.uint8)
        self._ran, self._out = self._words.copy(), np.zeros(batch.out_size + 64, np.uint8)

    def run(self) -> None:
        self._ran[:] = self._words
        self._executor.execute(self._ran, self._arena, self._out)

    def output(self, out: Out, size: int) -> npt.NDArray[np.uint8]:
        """The first bytes of what the last run wrote there; the next run writes over them."""
        return self._out[out.offset : out.offset + size]

    def set_word(self, at: int, value: int) -> None:
        """Give a plain argument another value, by its word in the batch."""
        self._words[at] = value

    @property
    def answer(self) -> bytes:
        """Everything that the last run answered, to compare with other runs'."""
        return self._ran.tobytes() + self._out.tobytes()

    def finish(self) -> None:
        """Hand the answers of the last run to those who asked."""
        self._batch.finish(self._ran, self._out.tobytes())
