"""Files are read in the background, so that the window goes on meanwhile."""

from __future__ import annotations

import logging
import threading
from pathlib import Path

from PySide6.QtCore import QEventLoop, QObject, Qt, Signal

from wendascope.desktop.models.document import Document
from wendascope.errors import InternalError, WendascopeError

_log = logging.getLogger(__name__)


class _Reader(QObject):
    """Reads one file in a thread of its own."""

    ended = Signal()

    def __init__(self, path: Path) -> None:
        super().__init__()
        self._path = path
        self.document: Document | None = None
        self.problem: WendascopeError | None = None

    def read(self) -> None:
        try:
            self.document = Document(self._path)
            self.document.prepare()
        except WendascopeError as error:
            self.problem = error
        except Exception as error:
            _log.exception("opening a file failed")
            self.problem = InternalError.of(error)
        self.ended.emit()


def opened_document(path: Path) -> Document:
    """The document of a file; events go on being served until it is there. Raises FileError, InternalError."""
    reader, loop = _Reader(path), QEventLoop()
    reader.ended.connect(loop.quit, Qt.ConnectionType.QueuedConnection)
    thread = threading.Thread(target=reader.read, name="opening", daemon=True)
    thread.start()
    loop.exec()
    thread.join()
    if reader.problem is not None:
        raise reader.problem
    assert reader.document is not None
    return reader.document
