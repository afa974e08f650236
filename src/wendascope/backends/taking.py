"""The doors through which a frame is taken from a held program: what `tap` and a backend ask of each other."""

from __future__ import annotations

from array import array
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Protocol

import numpy as np
import numpy.typing as npt

from wendascope.frame.frame import Frame, FrameStatistics, Metadata


class Batch(Protocol):
    """Calls that are to be run in a held program, and room for what they return."""

    @property
    def words(self) -> array[int]: ...
    @property
    def arena(self) -> bytearray: ...
    @property
    def out_size(self) -> int:
        """Bytes that the calls may write results to."""

    def finish(self, words: npt.NDArray[np.uint64], out: memoryview) -> None:
        """Take the results in: the words as they are after the run, and the bytes written."""


class Held(Protocol):
    """A held program, to whoever reads its objects."""

    def run(self, batch: Batch) -> None:
        """Run calls in it. Raises TargetError."""


@dataclass(frozen=True)
class Stand:
    """Where a held program stands: in which context, and what came along, in the layout of its API."""

    context: int
    group: int
    """Contexts that share objects are of one group."""
    size: tuple[int, int]
    """Of the window, in pixels."""
    platform: int
    files: Sequence[memoryview]


class Taking(Protocol):
    """One frame of a held program as it is being taken. The calls come in this order; each may raise TargetError."""

    def meet(self, stand: Stand) -> None:
        """Another context begins to draw; its program is held there."""

    def record(self, files: Sequence[memoryview], flags: int) -> None:
        """The calls of the frame, which is over. `flags` are those of the message (`RecordedFlag`)."""

    def finish(self, shown: bool, depth: bool) -> None:
        """Read the finished picture: of the window where it is shown, else of what is bound; its depth as well."""

    def follow(self, files: Sequence[memoryview], flags: int) -> None:
        """The calls of the frame after."""

    def frame(self, metadata: Metadata, statistics: list[FrameStatistics], unused: bool) -> Frame:
        """The frame, when the program runs on. Without `unused`, contents that it does not name are left out."""
