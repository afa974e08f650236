"""The picture panel: the target at the selected step through a lens, with zoom and probe."""

from __future__ import annotations

import functools
from collections.abc import Callable
from typing import Any

import numpy as np
import numpy.typing as npt
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, QTimer, Signal
from PySide6.QtGui import QColor, QImage, QMouseEvent, QPainter, QPaintEvent, QPen, QResizeEvent, QWheelEvent
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QSizePolicy, QToolButton, QVBoxLayout, QWidget

from wendascope.desktop.charts.legend import Legend
from wendascope.desktop.models.commands import JobName
from wendascope.desktop.models.document import Document
from wendascope.desktop.widgets.plain import Label
from wendascope.desktop.widgets.theme import GRID, figures_font, theme
from wendascope.desktop.window.jobs import JobRunner
from wendascope.errors import CancelledError
from wendascope.measure.lenses import lens_named, lenses
from wendascope.measure.overdraw import steps_mask
from wendascope.measure.pictures import picture_at
from wendascope.texts import share
from wendascope.trials.proofs.runs import Beside

_DELAY_MS = 25
_LARGEST_ZOOM = 64.0
_FIGURES = 18.0
"""Screen pixels a picture pixel from which its figure is written into it."""
_CLICK = 4
"""Screen pixels that a press may move and still be a click."""


class PictureView(QWidget):
    """An image on neutral grey: the wheel zooms about the pointer, dragging moves, the pointer probes."""

    probed = Signal(object)
    """(x, y) with y from the bottom, or None."""
    zoomed = Signal(float)
    clicked = Signal(int, int)
    """A pixel, y from the bottom: pressed and let go in one place."""

    def __init__(self) -> None:
        super().__init__()
        self._image: QImage | None = None
        self._fit = True
        self._zoom = 1.0
        self._centre = QPointF(0, 0)
        self._pressed: QPointF | None = None
        self._dragged = False
        self._overlay: QImage | None = None
        self._outline: QImage | None = None
        self.pin: tuple[int, int] | None = None
        """The held pixel, y from the bottom."""
        self.figure: Callable[[int, int], str] | None = None
        """Text of a pixel (y from the bottom), written where pixels are shown large."""
        self._pixel: tuple[int, int] | None = None
        self.note = ""
        self.setMouseTracking(True)
        self.setMinimumSize(240, 160)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Picture")

    def sizeHint(self) -> QSize:
        return QSize(480, 300)

    @property
    def image(self) -> QImage | None:
        return self._image

    def show_image(self, pixels: np.ndarray[Any, Any] | None) -> None:
        """Show an array (h, w, 3) uint8, top row first; the zoom stays when the size does."""
        if pixels is None:
            self._image = None
        else:
            height, width = pixels.shape[:2]
            image = QImage(
                np.ascontiguousarray(pixels).data, width, height, 3 * width, QImage.Format.Format_RGB888
            ).copy()
            if self._image is None or self._image.size() != image.size():
                self._fit = True
            self._image = image
        self.update()

    def highlight(self, mask: np.ndarray[Any, Any] | None) -> None:
        """Dim everything outside a mask (h, w), bottom row first; None for nothing."""
        if mask is None:
            self._overlay = None
        else:  # an alpha of its own is drawn as black
            dim = np.where(mask[::-1], np.uint8(0), np.uint8(170))
            self._overlay = QImage(
                dim.data, dim.shape[1], dim.shape[0], dim.shape[1], QImage.Format.Format_Alpha8
            ).copy()
        self.update()

    def outline(self, mask: np.ndarray[Any, Any] | None) -> None:
        """Draw a line round a mask (h, w), bottom row first."""
        if mask is None:
            self._outline = None
        else:
            shape = np.pad(mask[::-1], 1)
            inner = shape[1:-1, 1:-1] & shape[:-2, 1:-1] & shape[2:, 1:-1] & shape[1:-1, :-2] & shape[1:-1, 2:]
            accent = QColor(theme().accent)
            line = np.zeros((*mask.shape, 4), np.uint8)
            line[shape[1:-1, 1:-1] & ~inner] = (accent.red(), accent.green(), accent.blue(), 255)
            self._outline = QImage(
                line.data, line.shape[1], line.shape[0], 4 * line.shape[1], QImage.Format.Format_RGBA8888
            ).copy()
        self.update()

    # ---- where the image is ---------------------------------------------------------------------------

    @property
    def scale(self) -> float:
        """Screen pixels a picture pixel."""
        if not self._fit or self._image is None:
            return self._zoom
        margin = 2 * GRID
        return min((self.width() - margin) / self._image.width(), (self.height() - margin) / self._image.height())

    def _origin(self) -> QPointF:
        assert self._image is not None
        size = QPointF(self._image.width(), self._image.height()) * self.scale
        middle = QPointF(self.width(), self.height()) / 2
        if self._fit:
            return middle - size / 2
        return middle - self._centre * self.scale

    def fit(self) -> None:
        self._fit = True
        self._changed()

    def set_zoom(self, zoom: float, about: QPointF | None = None) -> None:
        """Zoom so that what is under `about` (widget coordinates) stays there."""
        if self._image is None:
            return
        about = about or QPointF(self.width(), self.height()) / 2
        at = (about - self._origin()) / self.scale
        self._zoom = min(max(zoom, 0.05), _LARGEST_ZOOM)
        self._fit = False
        self._centre = at + (QPointF(self.width(), self.height()) / 2 - about) / self._zoom
        self._changed()

    def zoom_by(self, factor: float) -> None:
        self.set_zoom(self.scale * factor)

    def _changed(self) -> None:
        self.zoomed.emit(self.scale)
        self.update()

    # ---- painting and hands ------------------------------------------------------------------------------

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), QColor(theme().surround))
        if self._image is not None:
            scale = self.scale
            painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform, scale < 1)
            size = QPointF(self._image.width(), self._image.height()) * scale
            origin = self._origin()
            where = QRectF(origin.x(), origin.y(), size.x(), size.y())
            painter.drawImage(where, self._image)
            for layer in (self._overlay, self._outline):
                if layer is not None and layer.size() == self._image.size():
                    painter.drawImage(where, layer)
            if scale >= _FIGURES:
                self._paint_figures(painter, origin, scale)
            if self.pin is not None:
                self._paint_pin(painter, origin, scale)
            if self._pixel is not None and scale >= 6:
                x, y = self._pixel
                painter.setPen(QPen(QColor(theme().accent), 2))
                painter.drawRect(QRectF(origin.x() + x * scale, origin.y() + y * scale, scale, scale))
        if self.note:
            box = QRectF(0, self.height() - 28, self.width(), 28)
            painter.fillRect(box, QColor(theme().raised))
            painter.setPen(QColor(theme().ink))
            painter.drawText(box.adjusted(8, 0, -8, 0), Qt.AlignmentFlag.AlignVCenter, self.note)

    def _paint_figures(self, painter: QPainter, origin: QPointF, scale: float) -> None:
        """Each pixel's figure, in ink that can be read on its colour."""
        if self.figure is None or self._image is None:
            return
        painter.setFont(figures_font(min(scale / 34, 1.0)))
        first_x, first_y = max(int(-origin.x() / scale), 0), max(int(-origin.y() / scale), 0)
        last_x = min(int((self.width() - origin.x()) / scale) + 1, self._image.width())
        last_y = min(int((self.height() - origin.y()) / scale) + 1, self._image.height())
        for y in range(first_y, last_y):
            for x in range(first_x, last_x):
                dark = self._image.pixelColor(x, y).lightness() < 128
                painter.setPen(QColor("#FFFFFF" if dark else "#101418"))
                box = QRectF(origin.x() + x * scale, origin.y() + y * scale, scale, scale)
                painter.drawText(box, Qt.AlignmentFlag.AlignCenter, self.figure(x, self._image.height() - 1 - y))

    def _paint_pin(self, painter: QPainter, origin: QPointF, scale: float) -> None:
        assert self.pin is not None and self._image is not None
        x, y = self.pin[0], self._image.height() - 1 - self.pin[1]
        centre = QPointF(origin.x() + (x + 0.5) * scale, origin.y() + (y + 0.5) * scale)
        reach = max(scale / 2, 3.0)
        for colour, width in (("#FFFFFF", 4), (theme().accent, 2)):
            painter.setPen(QPen(QColor(colour), width))
            for dx, dy in ((1, 0), (-1, 0), (0, 1), (0, -1)):
                painter.drawLine(centre + QPointF(dx, dy) * reach, centre + QPointF(dx, dy) * (reach + 9))

    def resizeEvent(self, event: QResizeEvent) -> None:
        if self._image is not None:
            self.zoomed.emit(self.scale)  # a fitted picture grows with its room

    def wheelEvent(self, event: QWheelEvent) -> None:
        self.set_zoom(self.scale * 1.25 ** (event.angleDelta().y() / 120), event.position())
        event.accept()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self._pressed = event.position()
        self._dragged = False

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self._pressed = None
        if (
            not self._dragged
            and self._pixel is not None
            and self._image is not None
            and event.button() == Qt.MouseButton.LeftButton
        ):
            self.clicked.emit(self._pixel[0], self._image.height() - 1 - self._pixel[1])

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        self.fit()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._image is None:
            return
        if self._pressed is not None and event.buttons():
            if not self._dragged and (event.position() - self._pressed).manhattanLength() < _CLICK:
                return
            self._dragged = True
            if self._fit:
                self.set_zoom(self.scale)
            self._centre -= (event.position() - self._pressed) / self._zoom
            self._pressed = event.position()
            self.update()
        at = (event.position() - self._origin()) / self.scale
        x, y = int(at.x()), int(at.y())
        inside = at.x() >= 0 and at.y() >= 0 and x < self._image.width() and y < self._image.height()
        self._pixel = (x, y) if inside else None
        self.probed.emit((x, self._image.height() - 1 - y) if inside else None)
        if self.scale >= 6:
            self.update()

    def leaveEvent(self, event: Any) -> None:
        self._pixel = None
        self.probed.emit(None)


class PicturePanel(QWidget):
    """Lens, zoom, picture and probe. Follows the selection of a document."""

    def __init__(self) -> None:
        super().__init__()
        self._document: Document | None = None
        self._jobs: JobRunner | None = None
        self._found: dict[str, Any] | None = None
        self._wanted: tuple[int | None, str] | None = None
        self._shown_lens = "colour"
        self._alike: int | None = None
        self._pointing = False
        """Whether a program is pointed at here."""
        self.lens = QComboBox()
        for item in lenses():
            self.lens.addItem(item.title, item.name)
        self.lens.setToolTip("How to see the picture")
        self.lens.currentIndexChanged.connect(self.request)
        self.title = Label()
        self.title.setSizePolicy(
            QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed
        )  # long names do not widen the panel
        self.title.setContentsMargins(GRID, 0, GRID, GRID // 2)
        self.zoom = Label()
        self.zoom.setFont(figures_font())
        self.zoom.setMinimumWidth(7 * GRID)
        self.zoom.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        self.view = PictureView()
        self.probe = Label()
        self.probe.setFont(figures_font())
        self.probe.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        buttons = QHBoxLayout()
        buttons.setSpacing(GRID)
        buttons.setContentsMargins(GRID, GRID // 2, GRID, GRID // 2)
        lens_label = Label("Lens")
        lens_label.setBuddy(self.lens)
        buttons.addWidget(lens_label)
        buttons.addWidget(self.lens)
        buttons.addStretch(1)
        for text, tip, action in (
            ("-", "Smaller", lambda: self.view.zoom_by(0.8)),
            ("+", "Larger", lambda: self.view.zoom_by(1.25)),
        ):
            button = QToolButton()
            button.setText(text)
            button.setToolTip(tip)
            button.clicked.connect(action)
            buttons.addWidget(button)
        for text, tip, action in (
            ("Fit", "Show the whole picture", self.view.fit),
            ("1:1", "One screen pixel for each picture pixel", lambda: self.view.set_zoom(1.0)),
        ):
            button = QToolButton()
            button.setText(text)
            button.setToolTip(tip)
            button.clicked.connect(action)
            buttons.addWidget(button)
        buttons.addWidget(self.zoom)
        self.outline = QToolButton()
        self.outline.setText("Outline")
        self.outline.setToolTip("Outline what the selected step draws")
        self.outline.setCheckable(True)
        self.outline.toggled.connect(self._ask_outline)
        buttons.insertWidget(3, self.outline)
        self.legend = Legend()
        foot = QHBoxLayout()
        foot.setContentsMargins(GRID, 2, GRID, 4)
        foot.addWidget(self.probe, 1)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addLayout(buttons)
        layout.addWidget(self.title)
        layout.addWidget(self.view, 1)
        layout.addWidget(self.legend)
        layout.addLayout(foot)
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.setInterval(_DELAY_MS)
        self._timer.timeout.connect(self._ask)
        self.view.probed.connect(self._probe)
        self.view.clicked.connect(self._clicked)
        self.view.zoomed.connect(lambda scale: self.zoom.setText(f"{100 * scale:.0f} %"))
        self._probe(None)

    def show_document(self, document: Document | None, jobs: JobRunner | None) -> None:
        """Follow another document. The captured picture is shown at once."""
        self._jobs = jobs
        if document is self._document:
            return
        self._document = document
        self._wanted = None
        if document is None:
            self._found = None
            self.view.show_image(None)
            self.title.setText("")
            return
        document.selection.listen(self.request)
        document.pin.listen(self._pinned)
        document.pointed.listen(self._pointed)
        self._pinned()
        reference = document.frame.reference
        if document.selection.step is None and reference is not None:
            self._show({"pixels": reference.pixels, "name": "captured picture"}, None, "colour")
        else:
            self.request()

    def request(self) -> None:
        """Ask for the picture of the selected step; quick changes are asked for once."""
        if self._document is not None:
            self._timer.start()

    def _ask(self) -> None:
        document, jobs = self._document, self._jobs
        if document is None or jobs is None:
            return
        step, lens = document.selection.step, self.lens.currentData()
        if (step, lens) == self._wanted:
            return
        if self._wanted is not None and self._wanted[1] != lens:
            jobs.cancel(JobName.PICTURE)  # another lens need not wait for a long count
        self._wanted = (step, lens)
        self.view.note = "waiting until the frame is measured" if jobs.running(JobName.MEASURE) else "replaying"
        QTimer.singleShot(250, self.view.update)  # short replays need no note
        jobs.submit(
            JobName.PICTURE,
            lambda replay, task: replay.run(picture_at.asked(step=step, lens=lens), task),
            lambda found: self._arrived(document, step, lens, found),
            lambda error: self._refused(document, error),
            replaces=True,
        )

    def show_progress(self, what: str, part: float) -> None:
        """How far a long count is; short replays come before it is seen."""
        if self.view.note:
            self.view.note = f"{what}, {share(part)}"
            self.view.update()

    def _arrived(self, document: Document, step: int | None, lens: str, found: dict[str, Any]) -> None:
        if document is self._document and (step, lens) == self._wanted:
            self._show(found, step, lens)

    def _refused(self, document: Document, error: Exception) -> None:
        if document is self._document and not isinstance(error, CancelledError):
            self._wanted = None
            self.view.note = str(error)
            self.view.update()

    def _show(self, found: dict[str, Any], step: int | None, lens: str) -> None:
        self._found, self._shown_lens = found, lens
        chosen = lens_named(lens)
        self.view.note = ""
        self.view.highlight(None)
        self.view.outline(None)
        self.view.figure = functools.partial(chosen.figure, found) if chosen.figure else None
        self.view.show_image(chosen.paint(found))
        self.legend.show_entries(chosen.legend(found) if chosen.legend else [])
        self.zoom.setText(f"{100 * self.view.scale:.0f} %")
        assert self._document is not None
        passes = self._document.frame.passes
        where = found["name"] if step is None else f"{passes.names[int(passes.of_step[step])]}, after step {step:,}"
        self.title.setText(where)
        self._ask_outline()

    def show_difference(self, found: Beside, title: str) -> None:
        """A proof's picture, with everything dimmed that is as it was."""
        self._timer.stop()  # a step chosen just before is not to take its place
        self._found, self._shown_lens, self._wanted = {"pixels": found.after}, "colour", None
        self.view.figure = None
        self.view.show_image(lens_named("colour").paint(self._found))
        different = found.different
        some = bool(different.any())
        self.view.highlight(_grown(different, 6) if some else None)  # single pixels would not be seen
        self.view.outline(_grown(different, 7) if some else None)
        self.legend.show_entries([])
        self.title.setText(f"{int(different.sum()):,} pixels differ: {title}")

    # ---- the selected step, the held pixel ------------------------------------------------------------------

    def _ask_outline(self) -> None:
        document, jobs = self._document, self._jobs
        step = document.selection.step if document else None
        marked = document.selection.marked if document else ()
        if document is None or jobs is None or step is None or not (marked or self.outline.isChecked()):
            self.view.outline(None)
            return
        steps = [step, *marked]
        jobs.submit(
            JobName.OUTLINE,
            lambda replay, task: replay.run(steps_mask.asked(steps), task),
            lambda found: (
                self.view.outline(found) if document is self._document and document.selection.step == step else None
            ),
            lambda error: self._refused(document, error),
            replaces=True,
        )

    def _clicked(self, x: int, y: int) -> None:
        if self._document is not None:
            self._document.pin.put((x, y))

    def _pinned(self) -> None:
        self.view.pin = self._document.pin.at if self._document else None
        self.view.update()

    def _probe(self, at: tuple[int, int] | None) -> None:
        chosen = lens_named(self._shown_lens)
        if at is None or self._found is None:
            self.probe.setText("Move over the picture to read a pixel; click to pin it")
            if chosen.alike is not None:
                self.view.highlight(None)
                self._alike = None
            self._point(None)
            return
        x, y = at
        self.probe.setText(f"x {x}  y {y}   {chosen.probe(self._found, x, y)}")
        if chosen.program_at is not None:
            self._point(chosen.program_at(self._found, x, y))
        if chosen.alike is not None and chosen.step_at is not None:
            step = chosen.step_at(self._found, x, y)
            if step != self._alike:  # the same owner as a moment ago needs no new mask
                self._alike = step
                self.view.highlight(chosen.alike(self._found, x, y))

    def _point(self, program: int | None) -> None:
        """Tell other views which program is under the pointer here."""
        if self._document is not None:
            self._pointing = program is not None
            self._document.pointed.point(program)

    def _pointed(self) -> None:
        """Show what a program that is pointed at elsewhere is seen on."""
        chosen = lens_named(self._shown_lens)
        if self._pointing or self._document is None or self._found is None or chosen.of_program is None:
            return
        program = self._document.pointed.program
        self.view.highlight(None if program is None else chosen.of_program(self._found, program))


def _grown(mask: npt.NDArray[np.bool_], pixels: int) -> npt.NDArray[np.bool_]:
    """Where a mask is set within so many pixels along each side, shape (h, w)."""
    for axis in (0, 1):
        around = [(pixels, pixels) if axis == side else (0, 0) for side in (0, 1)]
        windows = np.lib.stride_tricks.sliding_window_view(np.pad(mask, around), 2 * pixels + 1, axis=axis)
        mask = np.asarray(windows.any(axis=-1))
    return mask
