"""Nothing prints but the two functions that make what is said harmless."""

from __future__ import annotations

import re
from pathlib import Path

import wendascope

SOURCE = Path(wendascope.__file__).parent
_ALLOWED = {
    "cli/_app.py",
    "registry/build.py",
    "replay/worker.py",
    "demo/__main__.py",
    "cli/memory.py",
    "cli/capturing.py",
}


def test_commands_speak_through_one_place() -> None:
    for path in SOURCE.rglob("*.py"):
        name = str(path.relative_to(SOURCE))
        text = path.read_text()
        if name not in _ALLOWED:
            assert not re.search(r"(?<![\w.])print\(|sys\.std(out|err)\.write", text), name
    for name in ("cli/memory.py", "cli/capturing.py"):
        assert not re.search(r"(?<![\w.])print\(", (SOURCE / name).read_text()), name


def test_windows_have_plain_labels() -> None:
    for path in (SOURCE / "desktop").rglob("*.py"):
        if path.name != "plain.py":
            assert not re.search(r"(?<![\w.])QLabel\(", path.read_text()), path.name
