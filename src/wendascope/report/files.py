"""Files that are written whole or not at all."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Callable, Mapping
from pathlib import Path

from wendascope.errors import FileError


def write_files(folder: Path, contents: Mapping[str, bytes]) -> list[Path]:
    """Write files by their names into a folder, which is made. Returns their paths. Raises FileError."""
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise FileError(f"cannot make the folder {folder}: {error.strerror}; choose another") from error
    for name, data in contents.items():
        write_atomically(folder / name, lambda scratch, data=data: scratch.write_bytes(data))  # type: ignore[misc]
    return [folder / name for name in contents]


def write_atomically(path: Path, write: Callable[[Path], object]) -> None:
    """Let `write` fill a temporary file, then give it its name. Raises FileError."""
    scratch = path.with_name(f".{path.name}.{os.getpid()}.partial")
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        write(scratch)
        scratch.replace(path)
    except OSError as error:
        raise FileError(f"cannot write {path}: {error.strerror or error}; free some space or choose another place") from error
    finally:
        with contextlib.suppress(OSError):
            scratch.unlink(missing_ok=True)
