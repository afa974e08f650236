"""The guide in a window of its own: pages of Markdown with their pictures, beside the work."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from PySide6.QtCore import QSettings, Qt, QUrl
from PySide6.QtGui import QDesktopServices, QImage, QKeySequence, QShortcut, QTextDocument
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QTextBrowser, QVBoxLayout, QWidget

import wendascope
from wendascope.desktop.widgets.theme import GRID

_SIZE = 760, 820


def guide_folder() -> Path:
    """Where the pages are: with the installed package, or in the checkout that it is used from."""
    package = Path(wendascope.__file__).parent
    installed = package / "docs" / "guide"
    return installed if installed.is_dir() else package.parent.parent / "docs" / "guide"


class _Pages(QTextBrowser):
    """Shows pictures as wide as there is room."""

    def loadResource(self, kind: int, name: QUrl | str) -> Any:
        if kind != QTextDocument.ResourceType.ImageResource.value:
            return super().loadResource(kind, name)
        path = self.source().resolved(QUrl(name) if isinstance(name, str) else name).toLocalFile()
        picture, width = QImage(path), max(self.viewport().width() - 4 * GRID, 40 * GRID)
        if picture.width() > width:
            ratio = self.devicePixelRatioF()
            picture = picture.scaledToWidth(int(width * ratio), Qt.TransformationMode.SmoothTransformation)
            picture.setDevicePixelRatio(ratio)
        return picture


class GuideWindow(QWidget):
    """One for a main window; links go from page to page, what lies outside opens in the browser."""

    def __init__(self, settings: QSettings, parent: QWidget) -> None:
        super().__init__(parent, Qt.WindowType.Window)
        self._settings = settings
        self.text = _Pages()
        self.text.setOpenLinks(False)
        self.text.document().setDocumentMargin(2 * GRID)
        self.text.anchorClicked.connect(self._follow)
        self.text.sourceChanged.connect(self._changed)
        buttons = QHBoxLayout()
        for name, act, available in (
            ("Back", self.text.backward, self.text.backwardAvailable),
            ("Forward", self.text.forward, self.text.forwardAvailable),
            ("Contents", lambda: self.show_page("index"), None),
        ):
            button = QPushButton(name)
            button.clicked.connect(act)
            if available is not None:
                available.connect(button.setEnabled)
                button.setEnabled(False)
            buttons.addWidget(button)
        buttons.addStretch(1)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(GRID, GRID, GRID, GRID)
        layout.addLayout(buttons)
        layout.addWidget(self.text, 1)
        QShortcut(QKeySequence.StandardKey.Close, self, self.close)
        QShortcut(Qt.Key.Key_Escape, self, self.close)
        self.resize(*_SIZE)
        geometry = settings.value("guide_geometry")
        if geometry is not None:
            self.restoreGeometry(geometry)

    def show_page(self, name: str) -> None:
        """Show a page by its name, and bring the window to the front."""
        self.text.setSource(QUrl.fromLocalFile(str(guide_folder() / f"{name}.md")))
        self.show()
        self.raise_()
        self.activateWindow()

    def _follow(self, link: QUrl) -> None:
        link = self.text.source().resolved(link)
        if link.isLocalFile() and Path(link.toLocalFile()).suffix == ".md":
            self.text.setSource(link)
        else:
            QDesktopServices.openUrl(link)

    def _changed(self, _source: QUrl) -> None:
        first = self.text.document().firstBlock().text()
        self.setWindowTitle(f"{first} - Guide")

    def hideEvent(self, event: Any) -> None:
        self._settings.setValue("guide_geometry", self.saveGeometry())
        super().hideEvent(event)
