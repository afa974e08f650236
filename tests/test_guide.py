"""The guide: every command in it runs, every picture and link of it is there, and the window opens the right page."""

import itertools
import re
import shutil
import subprocess
import sys
from pathlib import Path
from typing import cast

import click
import pytest
from typer.main import get_command

from wendascope.cli._app import app
from wendascope.demo.data import shipped_file
from wendascope.desktop.pages import pages
from wendascope.desktop.window.guide import GuideWindow, guide_folder

_GUIDE = Path(__file__).parent.parent / "docs" / "guide"
_PAGES = sorted(_GUIDE.glob("*.md"))
_LINK = re.compile(r"\]\(([^)#]+)\)")


def _commands(page):
    return re.findall(r"^```sh\n(.*?)^```$", page.read_text(encoding="utf-8"), re.MULTILINE | re.DOTALL)


@pytest.mark.driver
@pytest.mark.parametrize("page", [p for p in _PAGES if _commands(p)], ids=lambda page: page.stem)
def test_every_command_of_a_page_runs(page, tmp_path, display):
    """As somebody would type them, one after the other, on the frame that the first page takes."""
    (tmp_path / "bin").mkdir()
    for name, module in (("wendascope", ' -m wendascope.cli "$@"'), ("python", ' "$@"')):
        script = tmp_path / "bin" / name
        script.write_text(f'#!/bin/sh\nexec "{sys.executable}"{module}\n')
        script.chmod(0o755)
    if page.stem != "first-capture":
        shutil.copy(shipped_file("depot.wend"), tmp_path / "mine.wend")
        shutil.copy(shipped_file("depot-better.wend"), tmp_path / "better.wend")
    environment = {"PATH": f"{tmp_path / 'bin'}:/usr/bin:/bin", "HOME": str(tmp_path), "DISPLAY": display}
    done = subprocess.run(
        ["bash", "-e", "-c", "".join(_commands(page))],
        cwd=tmp_path,
        env=environment,
        capture_output=True,
        text=True,
        check=False,
        timeout=390,
    )
    assert done.returncode == 0, done.stdout[-1500:] + done.stderr[-1500:]


def test_links_and_pictures_are_there():
    for page in _PAGES:
        for link in _LINK.findall(page.read_text(encoding="utf-8")):
            assert (page.parent / link).exists(), f"{page.name}: {link}"


def test_the_index_names_every_page_and_each_leads_on():
    named = _LINK.findall((_GUIDE / "index.md").read_text(encoding="utf-8"))
    assert sorted(named) == sorted(p.name for p in _PAGES if p.name != "index.md")
    order = named[:-1]
    for page, following in itertools.pairwise(order):
        assert f"]({following})" in (_GUIDE / page).read_text(encoding="utf-8"), page


def test_commands_of_the_guide_are_commands_of_the_program():
    names = set(cast(click.Group, get_command(app)).commands)
    for page in _PAGES:
        for line in "".join(_commands(page)).splitlines():
            for name in re.findall(r"\bwendascope ([a-z-]+)", line):
                assert name in names, f"{page.name}: {line}"


def test_every_page_of_the_window_has_one_of_the_guide(window):
    assert guide_folder() == _GUIDE
    for title, _ in pages():
        window.show_page(title)
        assert (_GUIDE / f"{window.pages.current().guide}.md").is_file(), title


def test_help_opens_the_page_that_belongs_to_what_is_shown(window, qtbot):
    window.show_page("Memory")
    window.show_guide()
    guide = window.guide
    assert isinstance(guide, GuideWindow)
    assert guide.windowTitle() == "Memory - Guide"
    assert "wendascope memory mine.wend" in guide.text.toPlainText()
    window.show_page("Batching")
    window.show_guide()
    assert window.guide is guide and guide.windowTitle() == "Batching and state - Guide"
    guide.text.backward()
    assert guide.windowTitle() == "Memory - Guide"
    guide.close()
