"""What tests share: a display, captured frames of real programs, the demo files."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from PySide6.QtCore import QSettings
from PySide6.QtWidgets import QApplication

from wendascope.analysis.yardsticks import yardsticks
from wendascope.desktop import theme
from wendascope.desktop.window import MainWindow
from wendascope.frame.file import save
from wendascope.frame.frame import Frame
from wendascope.tap.channel import Boundary
from wendascope.tap.launch import Target, Trigger

PROGRAMS = Path(__file__).parent / "programs"
DATA = Path(__file__).parent.parent / "src" / "wendascope" / "demo" / "data"


@pytest.fixture(scope="session")
def display() -> Iterator[str]:
    """An X display of its own, whatever the machine has."""
    if shutil.which("Xvfb") is None:
        pytest.fail("Xvfb is missing; `make packages` installs it")
    read, write = os.pipe()
    server = subprocess.Popen(["Xvfb", "-displayfd", str(write), "-screen", "0", "1400x1000x24", "-nolisten", "tcp"], pass_fds=(write,), stderr=subprocess.DEVNULL)
    os.close(write)
    with os.fdopen(read) as answer:
        number = answer.readline().strip()  # the whole line: the server gives up when it cannot write the end of it
    yield f":{number}"
    server.terminate()
    server.wait()


def program(name: str, *arguments: str) -> list[str]:
    """Command line of one of the test programs."""
    return [sys.executable, str(PROGRAMS / f"{name}.py"), *arguments]


@pytest.fixture(autouse=True)
def shipped_yardsticks() -> Iterator[None]:
    """Torn down last: what a test changed of the yardsticks is forgotten, by its windows' background work too."""
    yield
    yardsticks.cache_clear()


Capture = Callable[..., tuple[Path, Frame]]


@pytest.fixture(scope="session")
def capture(tmp_path_factory: pytest.TempPathFactory, display: str) -> Capture:
    """Captures a frame of a running program into a file."""

    def take(command: list[str], frame: int = 3, boundary: Boundary = Boundary.swap, **environment: str) -> tuple[Path, Frame]:
        path = tmp_path_factory.mktemp("captured") / "frame.wend"
        with Target(command, environment={**os.environ, "DISPLAY": display, **environment}) as target:
            taken = target.capture(Trigger(frame=frame, boundary=boundary), 60.0)
        save(taken, path)
        return path, taken

    return take


@pytest.fixture(scope="session")
def small(capture: Capture) -> Path:
    """A small captured frame, shared by tests that only read it."""
    return capture(program("shapes", "--frames", "40"))[0]


@pytest.fixture
def own_small(small: Path, tmp_path: Path) -> Path:
    """A copy of it that a test may change."""
    return Path(shutil.copy(small, tmp_path / "small.wend"))


@pytest.fixture
def depot(tmp_path: Path) -> Path:
    """A copy of the shipped demo frame."""
    return Path(shutil.copy(DATA / "depot.wend", tmp_path / "depot.wend"))


@pytest.fixture
def window(qtbot: Any, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[MainWindow]:
    """The window with settings and a runtime folder of its own."""
    folder = tmp_path / "run"
    folder.mkdir(mode=0o700)
    monkeypatch.setenv("XDG_RUNTIME_DIR", str(folder))
    app = QApplication.instance()
    assert isinstance(app, QApplication)
    theme.apply(app)
    made = MainWindow(QSettings(str(tmp_path / "settings.ini"), QSettings.Format.IniFormat))
    qtbot.addWidget(made)
    made.resize(1280, 800)
    made.show()
    yield made
    made.close()
