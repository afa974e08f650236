"""A frame whose replay is not the captured picture: every command and page says so first, and nothing is proved on
it.
"""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import load_opengl
from wendascope.desktop.window.main_window import MainWindow
from wendascope.frame.file import save
from wendascope.frame.frame import Picture
from wendascope.trials.proofs.verdicts import Verdict

from .conftest import Capture, program
from .test_cli import run

pytestmark = pytest.mark.driver


@pytest.fixture(scope="module")
def unlike(capture: Capture, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The wasteful program's frame with three pixels of its picture changed, surveyed."""
    path, frame = capture(program("wasteful"))
    assert frame.reference is not None
    pixels = frame.reference.pixels.copy()
    pixels[5, 5:8, 0] ^= 255
    frame = load_opengl(path)
    frame.reference = Picture(pixels)
    made = tmp_path_factory.mktemp("unlike") / "unlike.wend"
    save(frame, made)
    surveyed = run("survey", made, "--repeats", "1")
    assert (
        surveyed.returncode == 0
        and surveyed.stderr.count("WARNING: the replay differs from the captured picture in 3 of") == 1
    )
    return made


def test_verify_answers_no(unlike: Path) -> None:
    answered = run("verify", unlike)
    assert answered.returncode == 1 and "different: 3 of" in answered.stdout


@pytest.mark.parametrize("command", [("show",), ("shaders",), ("trials",), ("picture", "--out", "picture.png")])
def test_other_commands_say_so_first(unlike: Path, tmp_path: Path, command: tuple[str, ...]) -> None:
    name, *rest = command
    options = [str(tmp_path / o) if o.endswith(".png") else o for o in rest]
    answered = run(name, unlike, *options)
    assert (
        answered.returncode == 0 and "WARNING: the replay differs from the captured picture in 3 of" in answered.stderr
    )


def test_nothing_is_proved_on_it(unlike: Path) -> None:
    answered = run("prove", unlike, "--finding", "outside-view-1", "--seconds", "3")
    assert answered.returncode == 1 and "WARNING" in answered.stderr
    assert (
        answered.stdout.startswith("cannot be tried")
        and "the replay of this frame is not the captured picture (3 pixels differ)" in answered.stdout
    )
    stored = json.loads(run("trials", unlike, "--json").stdout)["trials"]
    assert [t["verdict"] for t in stored if t["id"] == "outside-view-1"] == [Verdict.REFUSED]


def test_every_page_says_so(unlike: Path, window: MainWindow, qtbot: Any) -> None:
    window.open_files([unlike])
    qtbot.waitUntil(lambda: window.workspace.current is not None, timeout=20000)
    assert (
        window.header.notice.isVisibleTo(window)
        and "differs from the captured picture in 3 of" in window.header.notice.text()
    )
    assert "Nothing is proved on this frame" in window.header.notice.text()


def test_a_frame_that_replays_has_no_notice(depot: Path, window: MainWindow, qtbot: Any) -> None:
    window.open_files([depot])
    qtbot.waitUntil(lambda: window.workspace.current is not None, timeout=20000)
    assert not window.header.notice.isVisibleTo(window)
