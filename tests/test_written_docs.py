"""What the documents say of the source is there."""

from __future__ import annotations

import re
from pathlib import Path

import pytest

from wendascope.backends.opengl.changes.frame_change import _lowered
from wendascope.discovery import import_all
from wendascope.trials.remedies._kinds import known_kinds
from wendascope.trials.remedies._recipes import _recipes

ROOT = Path(__file__).parent.parent
PAGES = [ROOT / "README.md", ROOT / "CONTRIBUTING.md", *sorted((ROOT / "docs").rglob("*.md"))]


@pytest.mark.parametrize("page", PAGES, ids=lambda page: str(page.relative_to(ROOT)))
def test_files_that_are_named_exist(page: Path) -> None:
    named = set(re.findall(r"`([a-z_]+(?:/[a-z_]+)+\.(?:py|c|h|toml))`", page.read_text()))
    made_up = {"trials/remedies/drop_blits.py", "backends/opengl/changes/remedies/drop_blits.py"}
    gone = [n for n in named - made_up if not (ROOT / n).exists() and not (ROOT / "src/wendascope" / n).exists()]
    assert not gone


def test_pages_that_are_linked_exist() -> None:
    for page in PAGES:
        for link in re.findall(r"\]\(([^)#:]+)\)", page.read_text()):
            assert (page.parent / link).exists(), f"{page.name}: {link}"


def test_every_kind_of_remedy_is_made_once() -> None:
    """By a recipe for all APIs, or by the OpenGL backend."""
    import_all("wendascope.trials.remedies")
    import_all("wendascope.backends.opengl.changes.remedies")
    assert set(known_kinds) == set(_recipes) | set(_lowered) and not set(_recipes) & set(_lowered)
