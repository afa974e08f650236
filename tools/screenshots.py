"""Makes the pictures of docs/screenshots from the demo frames, in a window of 1280 x 800."""

from __future__ import annotations

import os
import shutil
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from PySide6.QtCore import QSettings
from PySide6.QtWidgets import QApplication

from wendascope.desktop.application import make_application
from wendascope.desktop.window import MainWindow

ROOT = Path(__file__).parent.parent
OUT = ROOT / "docs" / "screenshots"
DATA = ROOT / "src" / "wendascope" / "demo" / "data"


def wait(app: QApplication, until: Callable[[], bool], seconds: float = 30.0) -> None:
    end = time.monotonic() + seconds
    while not until() and time.monotonic() < end:
        app.processEvents()
        time.sleep(0.01)
    app.processEvents()


def main() -> None:
    app = make_application()
    OUT.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory() as folder:
        files = [Path(shutil.copy(DATA / name, folder)) for name in ("depot.wend", "depot-better.wend")]
        window = MainWindow(QSettings(str(Path(folder) / "settings.ini"), QSettings.Format.IniFormat))
        window.set_scheme("light")
        window.resize(1280, 800)
        window.show()

        def shoot(name: str) -> None:
            app.processEvents()
            window.grab().save(str(OUT / f"{name}.png"))
            print(OUT / f"{name}.png")

        shoot("welcome")
        window.open_files(files)
        shoot("time")
        document = window.workspace.current
        assert document is not None
        depot = document.frame.passes.names.index("depot")
        document.selection.choose(int(document.frame.passes.first[depot]) + 240)
        wait(app, lambda: "after step" in window.picture.title.text())
        shoot("step")
        window.set_scheme("dark")
        window.strip.show_pass(depot)
        window.picture.lens.setCurrentIndex(1)
        wait(app, lambda: window.picture._found is not None and "depth" in window.picture._found)
        shoot("dark")
        window.close()


if __name__ == "__main__":
    main()
