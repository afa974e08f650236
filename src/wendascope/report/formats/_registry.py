"""Finds the forms: every module of this package that registers one."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from wendascope.discovery import import_all
from wendascope.errors import UsageError
from wendascope.report.survey import SurveyDocument

Writer = Callable[[SurveyDocument, Path, Path], None]


@dataclass(frozen=True)
class Form:
    """A form of a report. `title` is what it writes, in words."""

    name: str
    title: str
    write: Writer
    suffix: str = ""
    folder: bool = False
    """Whether it writes several files into a folder."""


_forms: dict[str, Form] = {}


def form(name: str, title: str, suffix: str = "", folder: bool = False) -> Callable[[Writer], Writer]:
    """Register a function (document, where to write, the frame's file) as a form."""

    def register(writer: Writer) -> Writer:
        _forms[name] = Form(name, title, writer, suffix, folder)
        return writer

    return register


def forms() -> list[Form]:
    """All forms, by name."""
    import_all("wendascope.report.formats")
    return sorted(_forms.values(), key=lambda item: item.name)


def form_named(name: str) -> Form:
    """Raises UsageError when there is none of that name."""
    found = next((item for item in forms() if item.name == name), None)
    if found is None:
        raise UsageError(f"there is no form called {name}; choose one of {', '.join(item.name for item in forms())}")
    return found


def export(name: str, document: SurveyDocument, path: Path, frame_file: Path) -> None:
    """Write a document in one form. Raises UsageError, FileError."""
    form_named(name).write(document, path, frame_file)
