"""Finds the forms: every module of this package that registers one."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from wendascope.discovery import import_all
from wendascope.errors import UsageError
from wendascope.report.survey import SurveyDocument

Writer = Callable[[SurveyDocument, Path, Path], None]
_writers: dict[str, Writer] = {}


def form(name: str) -> Callable[[Writer], Writer]:
    """Register a function (document, where to write, the frame's file) as a form."""

    def register(writer: Writer) -> Writer:
        _writers[name] = writer
        return writer

    return register


def forms() -> list[str]:
    import_all("wendascope.report.formats")
    return sorted(_writers)


def export(name: str, document: SurveyDocument, path: Path, frame_file: Path) -> None:
    """Write a document in one form. Raises UsageError, FileError."""
    if name not in forms():
        raise UsageError(f"there is no form called {name}; choose one of {', '.join(forms())}")
    _writers[name](document, path, frame_file)
