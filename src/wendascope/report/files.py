"""Files that are written whole or not at all."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Callable
from pathlib import Path

from wendascope.errors import FileError


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
