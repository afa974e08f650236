"""Finds the forms: every module of this package that registers one."""

from __future__ import annotations

import functools
import importlib
import pkgutil
from collections.abc import Callable
from pathlib import Path

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


@functools.cache
def _load_all() -> None:
    package = importlib.import_module("wendascope.report.formats")
    for module in pkgutil.iter_modules(package.__path__):
        if not module.name.startswith("_"):
            importlib.import_module(f"wendascope.report.formats.{module.name}")


def forms() -> list[str]:
    _load_all()
    return sorted(_writers)


def export(name: str, document: SurveyDocument, path: Path, frame_file: Path) -> None:
    """Write a document in one form. Raises UsageError, FileError."""
    if name not in forms():
        raise UsageError(f"there is no form called {name}; choose one of {', '.join(forms())}")
    _writers[name](document, path, frame_file)
