"""Surveys as they are kept in the file they belong to."""

from __future__ import annotations

from pathlib import Path

from wendascope.frame import file
from wendascope.measure.records import Survey

_KIND = "survey"


def keep_survey(path: Path, survey: Survey) -> None:
    """Raises FileError when the file cannot be written."""
    file.add(path, _KIND, survey)


def stored_survey(path: Path) -> Survey | None:
    """The newest survey in a file, or None. Raises FileError."""
    found = file.added(path, _KIND, Survey)
    return found[-1] if found else None
