"""Starts the window."""

from __future__ import annotations

import os
import signal
import sys
from importlib import resources
from pathlib import Path

from PySide6.QtCore import QEvent, QTimer
from PySide6.QtGui import QIcon
from PySide6.QtWidgets import QApplication

from wendascope.desktop.widgets import theme
from wendascope.desktop.window.garbage import GarbageKeeper
from wendascope.errors import MachineError
from wendascope.system_files import DESKTOP_ID

_TURN_SECONDS = 0.00005
"""How long work in the background may keep the window from painting: each turn of a view costs so much, not 5 ms."""


def make_application() -> QApplication:
    """The Qt application with our looks. Raises MachineError where no display is to be had."""
    if not (os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY") or os.environ.get("QT_QPA_PLATFORM")):
        raise MachineError(
            "there is no display to open a window on; use `wendascope survey FILE --html report.html` instead"
        )
    app = QApplication.instance()
    if not isinstance(app, QApplication):
        app = QApplication(sys.argv[:1])
    app.setApplicationName("Wendascope")
    app.setDesktopFileName(DESKTOP_ID)
    app.setWindowIcon(QIcon(str(Path(str(resources.files("wendascope.system_files"))) / f"{DESKTOP_ID}.svg")))
    app.setStyle("Fusion")
    theme.apply(app)
    sys.setswitchinterval(_TURN_SECONDS)
    app.styleHints().colorSchemeChanged.connect(lambda _scheme: theme.apply(app))
    return app


def run(files: list[Path]) -> int:
    """Open the window on files and stay until it is closed."""
    app = make_application()
    from wendascope.desktop.window.main_window import MainWindow

    garbage = GarbageKeeper(app)
    window = MainWindow(opening=bool(files))
    window.show()
    if files:
        window.open_files(files)
    signal.signal(signal.SIGINT, lambda *_: window.close())
    pulse = QTimer()  # lets Python see Ctrl-C while Qt runs
    pulse.start(200)
    pulse.timeout.connect(lambda: None)
    code = int(app.exec())
    garbage.deleteLater()
    window.deleteLater()
    app.sendPostedEvents(None, QEvent.Type.DeferredDelete)  # Qt's objects go before Python's do
    return code
