"""What tests share: a display, captured frames of real programs, the demo files."""

from __future__ import annotations

import gc
import os
import shutil
import subprocess
import sys
import tempfile
import zlib
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, settings
from xdist.scheduler import LoadScopeScheduling

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from PySide6.QtCore import QEvent, QSettings
from PySide6.QtWidgets import QApplication

from wendascope.analysis.guidelines import read_again
from wendascope.backends.opengl.frame import OpenGLFrame, opengl_frame
from wendascope.desktop.widgets import theme
from wendascope.desktop.window.main_window import MainWindow
from wendascope.frame.file import load, save
from wendascope.tap.channel import FrameEnd
from wendascope.tap.launch import Target, Trigger

settings.register_profile("any machine", deadline=None, suppress_health_check=[HealthCheck.too_slow])
settings.load_profile("any machine")
PROGRAMS = Path(__file__).parent / "programs"
DATA = Path(__file__).parent.parent / "src" / "wendascope" / "demo" / "data"


_PARTED = "known/test_known.py", "test_guide.py"
"""Files whose tests share nothing and take long."""
_PARTS = 8
"""Of each of these."""
_WITH_A_DRIVER = {"display", "capture", "small", "own_small", "window"}


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """What draws, captures or opens a window is marked, so that the rest can be run anywhere."""
    for item in items:
        if _WITH_A_DRIVER & set(getattr(item, "fixturenames", ())):
            item.add_marker(pytest.mark.driver)


class _ByFile(LoadScopeScheduling):
    """Tests of one file share what they captured, and so a worker; some share nothing, and are parted. Groups by mark,
    which would do, are lost between the versions of pytest and of its plugin that are around.
    """

    def _split_scope(self, nodeid: str) -> str:
        file, _, name = nodeid.partition("::")
        return f"{file} {zlib.crc32(name.encode()) % _PARTS}" if file.endswith(_PARTED) else file


def pytest_xdist_make_scheduler(config: pytest.Config, log: Any) -> LoadScopeScheduling:
    return _ByFile(config, log)


@pytest.fixture(scope="session")
def display() -> Iterator[str]:
    """An X display of its own, whatever the machine has."""
    if shutil.which("Xvfb") is None:
        pytest.fail("Xvfb is missing; `make packages` installs it")
    read, write = os.pipe()
    server = subprocess.Popen(
        ["Xvfb", "-displayfd", str(write), "-screen", "0", "1400x1000x24", "-nolisten", "tcp"],
        pass_fds=(write,),
        stderr=subprocess.DEVNULL,
    )
    os.close(write)
    with os.fdopen(read) as answer:
        number = answer.readline().strip()  # the whole line: the server gives up when it cannot write the end of it
    yield f":{number}"
    server.terminate()
    server.wait()


def load_opengl(path: Path) -> OpenGLFrame:
    """A frame of OpenGL or OpenGL ES, whose calls and objects a test looks at."""
    return opengl_frame(load(path))


def program(name: str, *arguments: str) -> list[str]:
    """Command line of one of the test programs."""
    return [sys.executable, str(PROGRAMS / f"{name}.py"), *arguments]


@pytest.fixture(scope="session", autouse=True)
def own_state(tmp_path_factory: pytest.TempPathFactory) -> None:
    """Which frames were made here is noted for this run only."""
    os.environ["XDG_STATE_HOME"] = str(tmp_path_factory.mktemp("state"))


@pytest.fixture(autouse=True)
def shipped_guidelines() -> Iterator[None]:
    """Torn down last: what a test changed of the guidelines is forgotten, by its windows' background work too."""
    yield
    read_again()


@pytest.fixture(scope="session", autouse=True)
def collected_here() -> Iterator[None]:
    """As in the application: no background thread of a window collects garbage, which would end widgets there."""
    gc.disable()
    yield
    gc.enable()


@pytest.fixture(autouse=True)
def collected_between(collected_here: None) -> Iterator[None]:
    yield
    gc.collect(1)


@pytest.fixture
def runtime(monkeypatch: pytest.MonkeyPatch) -> Iterator[Path]:
    """A runtime folder of this test alone: with a short path, since sockets in those that are too long go elsewhere,
    where tests beside this one have theirs.
    """
    with tempfile.TemporaryDirectory(prefix="w", dir="/tmp") as folder:
        monkeypatch.setenv("XDG_RUNTIME_DIR", folder)
        yield Path(folder)


Capture = Callable[..., tuple[Path, OpenGLFrame]]


@pytest.fixture(scope="session")
def capture(tmp_path_factory: pytest.TempPathFactory, display: str) -> Capture:
    """Captures a frame of a running program into a file."""

    def take(
        command: list[str], frame: int = 3, frame_end: FrameEnd = FrameEnd.swap, **environment: str
    ) -> tuple[Path, OpenGLFrame]:
        path = tmp_path_factory.mktemp("captured") / "frame.wend"
        with Target(command, environment={**os.environ, "DISPLAY": display, **environment}) as target:
            taken = opengl_frame(target.capture(Trigger(frame=frame, frame_end=frame_end), 60.0))
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
def window(qtbot: Any, tmp_path: Path, runtime: Path) -> Iterator[MainWindow]:
    """The window with settings and a runtime folder of its own."""
    app = QApplication.instance()
    assert isinstance(app, QApplication)
    theme.apply(app)
    made = MainWindow(QSettings(str(tmp_path / "settings.ini"), QSettings.Format.IniFormat))
    made.resize(1280, 800)
    made.show()
    yield made
    made.close()
    # widgets of windows that are gone would be styled anew for each later one
    made.deleteLater()
    app.sendPostedEvents(None, QEvent.Type.DeferredDelete.value)
