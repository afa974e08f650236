"""A second picture beside the first: the two zoom and move together, and the probe reads both."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import numpy.typing as npt
from PySide6.QtCore import Qt
from PySide6.QtGui import QImage, QResizeEvent
from PySide6.QtWidgets import QBoxLayout, QSizePolicy, QVBoxLayout, QWidget

from wendascope.desktop.views.picture_view import PictureView
from wendascope.desktop.widgets.plain import Label
from wendascope.desktop.widgets.theme import GRID

Probe = Callable[[int, int], str]
"""What is at a pixel, y from the bottom."""


class PinnedPicture(QWidget):
    """Hidden while nothing is pinned."""

    def __init__(self, other: PictureView) -> None:
        super().__init__()
        self._other = other
        self._probe: Probe | None = None
        self.name = ""
        """What it is of; empty while nothing is pinned."""
        self.title = Label()
        self.title.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        self.title.setContentsMargins(GRID, 0, GRID, GRID // 2)
        self.view = PictureView()
        self.view.setAccessibleName("Pinned picture")
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addWidget(self.title)
        layout.addWidget(self.view, 1)
        self._follows = False
        other.moved.connect(lambda: self._move(self.view, other))
        self.view.moved.connect(lambda: self._move(other, self.view))
        self.view.probed.connect(self._pointed)
        self.view.clicked.connect(other.clicked)
        self.hide()

    def show_pixels(self, pixels: npt.NDArray[np.uint8], name: str, probe: Probe) -> None:
        """Pin pixels, shape (h, w, 3), top row first."""
        self.view.show_image(pixels)
        self._pin(name, probe)

    def show_image(self, image: QImage, name: str, probe: Probe) -> None:
        """Pin an image as it is shown beside."""
        self.view.show_qimage(image)
        self._pin(name, probe)

    def _pin(self, name: str, probe: Probe) -> None:
        self.name, self._probe = name, probe
        self.title.setText(f"pinned: {name}")
        self.title.setToolTip(name)
        self.show()
        self._move(self.view, self._other)

    def clear(self) -> None:
        """Pin nothing any more."""
        self.name, self._probe = "", None
        self.view.show_image(None)
        self._other.echo(None)
        self.hide()

    def probe(self, x: int, y: int) -> str:
        """What is at the same place as a pixel of the other picture; empty where nothing is pinned."""
        at = self._same(x, y, self._other.image, self.view.image)
        return self._probe(*at) if at is not None and self._probe is not None else ""

    def point(self, at: tuple[int, int] | None) -> None:
        """Mark the place of a pixel of the other picture."""
        self.view.echo(None if at is None else self._same(*at, self._other.image, self.view.image))

    def _pointed(self, at: tuple[int, int] | None) -> None:
        there = None if at is None else self._same(*at, self.view.image, self._other.image)
        self._other.echo(there)
        self._other.probed.emit(there)
        self.view.echo(None)

    @staticmethod
    def _same(x: int, y: int, of: QImage | None, to: QImage | None) -> tuple[int, int] | None:
        """The pixel at the same place of a picture that may have another size."""
        if of is None or to is None:
            return None
        return x * to.width() // of.width(), y * to.height() // of.height()

    def _move(self, follower: PictureView, leader: PictureView) -> None:
        if not self._follows and self.name:
            self._follows = True  # and does not lead in turn
            follower.follow(leader)
            self._follows = False


class SideBySide(QWidget):
    """Two pictures beside each other, or one above the other, as the room makes them larger."""

    def __init__(self, pinned: PinnedPicture, shown: QWidget, view: PictureView) -> None:
        """`shown` holds the view, with what stands over it."""
        super().__init__()
        self._view = view
        self._box = QBoxLayout(QBoxLayout.Direction.LeftToRight, self)
        self._box.setContentsMargins(0, 0, 0, 0)
        self._box.setSpacing(2)
        self._box.addWidget(pinned, 1)
        self._box.addWidget(shown, 1)
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)

    def resizeEvent(self, event: QResizeEvent) -> None:
        image = self._view.image
        width, height = (image.width(), image.height()) if image is not None else (16, 9)
        beside = min(self.width() / 2 / width, self.height() / height)
        above = min(self.width() / width, self.height() / 2 / height)
        direction = QBoxLayout.Direction.LeftToRight if beside >= above else QBoxLayout.Direction.TopToBottom
        if self._box.direction() != direction:
            self._box.setDirection(direction)
