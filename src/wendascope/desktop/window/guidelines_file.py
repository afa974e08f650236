"""The user's own copy of the guidelines: edited outside, looked at again when it is saved."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QFileSystemWatcher, QObject, QUrl, Signal
from PySide6.QtGui import QDesktopServices

from wendascope.analysis.guidelines import own_file, read_again, shipped_text
from wendascope.errors import WendascopeError
from wendascope.files import write_atomically


class GuidelinesFile(QObject):
    """Watches the file from when it is there."""

    changed = Signal()
    failed = Signal(str, str)
    """A title, and what happened and what to do."""

    def __init__(self) -> None:
        super().__init__()
        self._watcher = QFileSystemWatcher(self)
        if own_file().exists():
            self._watcher.addPath(str(own_file()))
        self._watcher.fileChanged.connect(self._changed)

    def edit(self) -> None:
        """Open a copy of the guidelines in the system's editor."""
        path = own_file()
        try:
            if not path.exists():
                write_atomically(path, lambda scratch: scratch.write_text(shipped_text()))
        except WendascopeError as error:
            self.failed.emit("The guidelines cannot be edited", str(error))
            return
        if str(path) not in self._watcher.files():
            self._watcher.addPath(str(path))
        if not QDesktopServices.openUrl(QUrl.fromLocalFile(str(path))):
            self.failed.emit(
                "No editor was found",
                f"Edit {path} with a program of your choice; frames are looked at again when it is saved.",
            )

    def _changed(self, path: str) -> None:
        if Path(path).exists() and path not in self._watcher.files():
            self._watcher.addPath(path)  # editors put a new file in the place of the old one
        read_again()
        self.changed.emit()
