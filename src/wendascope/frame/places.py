"""Paths to frames: a file, or one frame of a file that holds a sequence. Imports nothing heavy: the replay process asks
before it gives up its rights.
"""

from __future__ import annotations

import os
import re
from pathlib import Path

_NUMBERED = re.compile(r"(.+)#([1-9]\d{0,5})")


def place_of(path: Path) -> tuple[Path, int]:
    """(file, number of the frame in it) that a path to a frame means: `mine.wend#3` is the third frame of `mine.wend`,
    which by itself means its first. A file whose own name ends so is itself.
    """
    found = _NUMBERED.fullmatch(path.name)
    if found is None or os.path.lexists(path):
        return path, 1
    return path.with_name(found[1]), int(found[2])


def frame_path(path: Path, number: int) -> Path:
    """The path to a frame of the file that a path names, by its number from 1."""
    file = place_of(path)[0]
    return file if number == 1 else file.with_name(f"{file.name}#{number}")
