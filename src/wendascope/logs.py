"""Where Wendascope writes what went wrong: a file in the user's state folder, and standard error with --log-level."""

from __future__ import annotations

import contextlib
import logging
import logging.handlers
import os
from pathlib import Path
from typing import Any

import platformdirs

from wendascope.texts import visible, visible_lines

LEVELS = ("debug", "info", "warning", "error")
_LARGEST, _OLDER = 1 << 20, 2
_FORMAT = "%(asctime)s %(levelname)s %(name)s: %(message)s"


class _Readable(logging.Formatter):
    """What strangers' names would do to a terminal that shows the log, or to its lines, is shown instead."""

    def formatMessage(self, record: logging.LogRecord) -> str:
        return visible(super().formatMessage(record))

    def formatException(self, ei: Any) -> str:
        return visible_lines(super().formatException(ei))


def log_file() -> Path:
    """The file; it need not exist."""
    return Path(platformdirs.user_state_path("wendascope")) / "log"


def start_logging(level: str = "") -> None:
    """Write warnings and worse into the file, traces included; with a level, that and above also to standard error.

    Where the file cannot be written, nothing is: a log never stops anybody's work.
    """
    root = logging.getLogger("wendascope")
    root.propagate = False
    if root.handlers:
        return
    shown = getattr(logging, level.upper()) if level else logging.CRITICAL + 1
    root.setLevel(min(logging.WARNING, shown))
    with contextlib.suppress(OSError):
        path = log_file()
        path.parent.mkdir(mode=0o700, parents=True, exist_ok=True)
        os.close(os.open(path, os.O_WRONLY | os.O_APPEND | os.O_CREAT | os.O_CLOEXEC | os.O_NOFOLLOW, 0o600))
        file = logging.handlers.RotatingFileHandler(path, maxBytes=_LARGEST, backupCount=_OLDER, delay=True)
        file.setLevel(logging.WARNING)
        file.setFormatter(_Readable(_FORMAT))
        root.addHandler(file)
    if level:
        console = logging.StreamHandler()
        console.setLevel(shown)
        console.setFormatter(_Readable("wendascope: %(levelname)s %(name)s: %(message)s"))
        root.addHandler(console)
    if not root.handlers:
        root.addHandler(logging.NullHandler())
