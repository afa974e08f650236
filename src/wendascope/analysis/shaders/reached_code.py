"""Which loops of its fragment shaders a frame runs, and how often: measured, by shaders that note it."""

from __future__ import annotations

import msgspec


class ReachedLoop(msgspec.Struct):
    """One loop of a program's fragment shader."""

    program: int
    line: int
    """That it begins on, of what is compiled."""
    last_line: int
    iterations: int
    """The most that any fragment of the frame ran; 0 where none reached it."""


class ReachedCode(msgspec.Struct):
    """Loops of all programs that could be followed."""

    loops: list[ReachedLoop] = []
    refused: str = ""
    """Why nothing was measured."""

    def iterations(self, program: int, line: int) -> int | None:
        """Of the loop that begins on a line; None where it was not followed, or several begin there."""
        found = [loop.iterations for loop in self.loops if loop.program == program and loop.line == line]
        return found[0] if len(found) == 1 else None
