"""Files are read in the background, so that the window goes on meanwhile; what the program showed comes first."""

from __future__ import annotations

import logging
import threading
from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QEventLoop, QObject, Qt, QTimer, Signal

from wendascope.desktop.models.document import Document
from wendascope.errors import InternalError, WendascopeError
from wendascope.frame.file import captured_picture
from wendascope.frame.frame import Picture

_LONGEST_PAINTING = 0.5
"""Seconds."""
_log = logging.getLogger(__name__)


class _Reader(QObject):
    """Reads one file in a thread of its own."""

    pictured = Signal(object)
    """The Picture that the program showed, long before a large frame is read."""
    ended = Signal()

    def __init__(self, path: Path) -> None:
        super().__init__()
        self._path = path
        self.seen = threading.Event()
        """Set once the picture was painted: reading takes turns with painting, which would be the slower for it."""
        self.document: Document | None = None
        self.problem: WendascopeError | None = None

    def read(self) -> None:
        try:
            picture = captured_picture(self._path)
            if picture is not None:
                self.pictured.emit(picture)
                self.seen.wait(_LONGEST_PAINTING)
            self.document = Document(self._path)
            self.document.prepare()
        except WendascopeError as error:
            self.problem = error
        except Exception as error:
            _log.exception("opening a file failed")
            self.problem = InternalError.of(error)
        self.ended.emit()


def opened_document(path: Path, pictured: Callable[[Picture], None] = lambda _picture: None) -> Document:
    """The document of a file; events go on being served until it is there, and `pictured` gets what the program showed
    as soon as that was read. Raises FileError, InternalError.
    """
    reader, loop = _Reader(path), QEventLoop()

    def show(picture: Picture) -> None:
        pictured(picture)
        QTimer.singleShot(0, reader.seen.set)  # behind the painting that this led to

    reader.pictured.connect(show, Qt.ConnectionType.QueuedConnection)
    reader.ended.connect(loop.quit, Qt.ConnectionType.QueuedConnection)
    thread = threading.Thread(target=reader.read, name="opening", daemon=True)
    thread.start()
    loop.exec()
    thread.join()
    if reader.problem is not None:
        raise reader.problem
    assert reader.document is not None
    return reader.document
