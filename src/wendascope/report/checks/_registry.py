"""Finds the forms: every module of this package that registers one."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from wendascope.discovery import import_all
from wendascope.files import write_atomically
from wendascope.trials.checks.checking import Checked

Text = Callable[[Checked], str]


@dataclass(frozen=True)
class CheckForm:
    """A form, and the text that it makes of what was found."""

    name: str
    title: str
    text: Text

    def write(self, found: Checked, path: Path) -> None:
        """Raises FileError."""
        written = self.text(found)
        write_atomically(path, lambda scratch: scratch.write_text(written, encoding="utf-8"))


_forms: dict[str, CheckForm] = {}


def check_form(name: str, title: str) -> Callable[[Text], Text]:
    """Register a function as a form."""

    def register(text: Text) -> Text:
        _forms[name] = CheckForm(name, title, text)
        return text

    return register


def check_forms() -> dict[str, CheckForm]:
    """All forms by name."""
    import_all("wendascope.report.checks")
    return _forms
