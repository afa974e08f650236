"""What an object in memory holds: the texels of an image with channel, level, layer and range; the elements of a
buffer.
"""

from __future__ import annotations

from pathlib import Path

import numpy as np
from PySide6.QtCore import QRectF, QSignalBlocker, QSize, Qt
from PySide6.QtGui import QColor, QPainter, QPaintEvent
from PySide6.QtWidgets import (
    QComboBox,
    QDoubleSpinBox,
    QFileDialog,
    QPushButton,
    QSpinBox,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from wendascope.desktop.models.commands import JobName
from wendascope.desktop.models.document import Document, Workspace
from wendascope.desktop.views.buffer_view import BufferContentsView
from wendascope.desktop.views.picture_view import PictureView
from wendascope.desktop.widgets.answer import lay_out
from wendascope.desktop.widgets.plain import Label
from wendascope.desktop.widgets.theme import GRID, figures_font, theme
from wendascope.errors import CancelledError, WendascopeError
from wendascope.files import write_atomically
from wendascope.frame.contents import ImageValues
from wendascope.frame.memory import MemoryItem
from wendascope.measure.object_values import object_values
from wendascope.replay.client import Replay
from wendascope.report.object_files import png, save_texture
from wendascope.task import Task
from wendascope.texts import visible

_MOMENTS = ("after the frame", "after the selected step", "before the frame")
_COLOURS = "colours"


class ContentsView(QStackedWidget):
    """An image, a buffer, or why there is nothing to see."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self._document: Document | None = None
        self.image = ImageContentsView(workspace)
        self.buffer = BufferContentsView()
        self.note = Label("Choose an object to see what it holds.")
        self.note.setWordWrap(True)
        self.note.setAlignment(Qt.AlignmentFlag.AlignTop)
        self.note.setContentsMargins(GRID, GRID, GRID, GRID)
        for part in (self.note, self.image, self.buffer):
            self.addWidget(part)

    def show_document(self, document: Document | None) -> None:
        """Follow a document; None for none."""
        if document is not self._document:
            self._document = document
            self.show_item(None)

    def show_item(self, item: MemoryItem | None) -> None:
        """Show what an object holds."""
        document = self._document
        if item is None or document is None:
            self._say("Choose an object to see what it holds.")
        elif item.object_class in ("texture", "renderbuffer") and item.width:
            self.setCurrentWidget(self.image)
            self.image.show_item(document, item)
        elif item.object_class == "buffer":
            data = document.frame.buffer_bytes(item.name)
            if data is None:
                self._say(f"{item.title} has no contents that were kept.")
                return
            self.setCurrentWidget(self.buffer)
            self.buffer.show_buffer(item, data, document.frame.buffer_layouts(item.name))
        else:
            text = "The window is what the picture at the right shows." if item.object_class == "window" else item.how
            self._say(f"{item.title}: {text}.")

    def _say(self, text: str) -> None:
        self.note.setText(text)
        self.setCurrentWidget(self.note)


class ImageContentsView(QWidget):
    """A texture or target as a picture: which channel, level and layer, and which values are black and white."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self._workspace = workspace
        self._document: Document | None = None
        self._item: MemoryItem | None = None
        self._values: ImageValues | None = None
        self.moment, self.channels = QComboBox(), QComboBox()
        self.moment.setAccessibleName("Moment")
        self.channels.setAccessibleName("Channels")
        self.moment.addItems(_MOMENTS)
        self.level, self.layer = QSpinBox(), QSpinBox()
        self.level.setPrefix("level ")
        self.layer.setPrefix("layer ")
        self.low, self.high = _range_box("black "), _range_box("white ")
        self.fit = QPushButton("Fit")
        self.fit.setToolTip("Black at the smallest value, white at the largest")
        self.save = QPushButton("Save ...")
        self.save.setToolTip("As PNG what is shown, as KTX 2 all levels, layers and faces as they are stored")
        for combo, letters in ((self.moment, 8), (self.channels, 5)):
            combo.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
            combo.setMinimumContentsLength(letters)
        for widget, wide in ((self.level, 9), (self.layer, 9), (self.fit, 6), (self.save, 8)):
            widget.setFixedWidth(wide * GRID)
        self.level.hide()
        self.layer.hide()
        self.picture, self.histogram = PictureView(), Histogram()
        self.told = Label()
        body = QWidget()
        column = QVBoxLayout(body)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(GRID // 2)
        column.addWidget(self.picture, 1)
        column.addWidget(self.histogram)
        controls = [self.moment, self.level, self.layer, self.channels, self.low, self.high, self.fit, self.save]
        lay_out(self, controls, self.told, body)
        self.told.setWordWrap(False)
        self.moment.currentIndexChanged.connect(self._read)
        self.level.valueChanged.connect(self._read)
        self.layer.valueChanged.connect(self._read)
        self.channels.currentIndexChanged.connect(self._show)
        self.low.valueChanged.connect(self._show)
        self.high.valueChanged.connect(self._show)
        self.fit.clicked.connect(self._fit)
        self.save.clicked.connect(self._save)
        self.picture.probed.connect(self._probed)

    def show_item(self, document: Document, item: MemoryItem) -> None:
        """Begin with the whole of its largest level."""
        self._document, self._item, self._values = document, item, None
        self.moment.setVisible(len(item.writes) > 0 or len(item.by_calls) > 0)
        for box, most in ((self.level, max(item.levels, 1) - 1), (self.layer, max(item.layers, 1) - 1)):
            box.setVisible(most > 0)
            with QSignalBlocker(box):
                box.setRange(0, most)
                box.setValue(0)
            box.setVisible(most > 0)
        self.picture.show_image(None)
        self._read()

    def _read(self) -> None:
        document, item = self._document, self._item
        if document is None or item is None:
            return
        level, layer = self.level.value(), self.layer.value()
        moment = self.moment.currentText() if not self.moment.isHidden() else _MOMENTS[-1]
        step = document.selection.step if moment == _MOMENTS[1] else None
        self.told.setText("Reading ...")

        def work(replay: Replay, task: Task) -> ImageValues:
            stored = item.object_class == "texture" and moment == _MOMENTS[-1]
            values = document.frame.stored_values(item.name, level, layer) if stored else None
            if values is not None:
                return values
            asked = object_values.asked(item.object_class, item.name, level, layer, step)
            return replay.run(asked, task)

        self._workspace.jobs.run_job(JobName.OBJECT_CONTENTS, work, self._arrived, self._failed)

    def _failed(self, error: Exception) -> None:
        if not isinstance(error, CancelledError):
            self._values = None
            self.picture.show_image(None)
            self.histogram.show_counts([])
            self.told.setText(str(error))

    def _arrived(self, values: ImageValues) -> None:
        self._values = values
        names = [*([_COLOURS] if "red" in values.channels and len(values.channels) > 1 else []), *values.channels]
        if [self.channels.itemText(k) for k in range(self.channels.count())] != names:
            with QSignalBlocker(self.channels):
                self.channels.clear()
                self.channels.addItems(list(map(visible, names)))
        fixed = values.values.dtype.kind == "f" and values.ends(self._numbers())[1] <= 1.0
        if fixed and "depth" not in values.channels:
            self._set_range(0.0, 1.0)
        else:
            self._set_range(*values.ends(self._numbers()))
        self._show()

    def _numbers(self) -> list[int]:
        """Which channels are shown."""
        assert self._values is not None
        names = self._values.channels
        chosen = self.channels.currentText()
        if chosen == _COLOURS:
            return [k for k, name in enumerate(names) if name in ("red", "green", "blue")]
        return [names.index(chosen)] if chosen in names else [0]

    def _set_range(self, low: float, high: float) -> None:
        for box, value in ((self.low, low), (self.high, high)):
            with QSignalBlocker(box):
                box.setValue(value)

    def _fit(self) -> None:
        if self._values is not None:
            self._set_range(*self._values.ends(self._numbers()))
            self._show()

    def _show(self) -> None:
        values, item = self._values, self._item
        if values is None or item is None:
            return
        low, high, numbers = self.low.value(), self.high.value(), self._numbers()
        self.picture.show_image(values.shown(numbers, low, high)[::-1])
        self.histogram.show_counts([(values.channels[k], values.histogram(k, low, high)) for k in numbers])
        self._probed(None)

    def _save(self) -> None:
        document, item, values = self._document, self._item, self._values
        if document is None or item is None or values is None:
            return
        start = document.path.with_name(f"{item.object_class}-{item.name}.png")
        name, _ = QFileDialog.getSaveFileName(self, f"Save {item.title}", str(start), "PNG (*.png);;KTX 2 (*.ktx2)")
        if name:
            self.save_to(Path(name))

    def save_to(self, path: Path) -> None:
        """Write the shown picture, or the whole texture, as the ending of the name tells."""
        document, item, values = self._document, self._item, self._values
        if document is None or item is None or values is None:
            return
        try:
            if path.suffix == ".png":
                shown = png(values.shown(self._numbers(), self.low.value(), self.high.value()))
                write_atomically(path, lambda scratch: scratch.write_bytes(shown))
            else:
                save_texture(document.frame, item, path)
        except WendascopeError as error:
            self.told.setText(str(error))
        else:
            self.told.setText(f"Saved as {path}")

    def _probed(self, at: tuple[int, int] | None) -> None:
        values, item = self._values, self._item
        if values is None or item is None:
            return
        if at is None or not (0 <= at[0] < values.width and 0 <= at[1] < values.height):
            self.told.setText(f"{item.title}, {values.width} x {values.height} {item.format}")
            return
        texel = values.values[at[1], at[0]]
        figures = ", ".join(f"{name} {float(v):.6g}" for name, v in zip(values.channels, texel, strict=True))
        self.told.setText(f"{at[0]}, {at[1]}: {figures}")


def _range_box(prefix: str) -> QDoubleSpinBox:
    box = QDoubleSpinBox()
    box.setPrefix(prefix)
    box.setRange(-1e9, 1e9)
    box.setDecimals(3)
    box.setFixedWidth(14 * GRID)
    box.setStepType(QDoubleSpinBox.StepType.AdaptiveDecimalStepType)
    return box


class Histogram(QWidget):
    """How many texels have which value, a line for each channel; heights are to the square root, so that few show."""

    def __init__(self) -> None:
        super().__init__()
        self._counts: list[tuple[str, np.ndarray]] = []
        self.setFixedHeight(6 * GRID)
        self.setFont(figures_font(0.85))
        self.setAccessibleName("Histogram of the shown channels")

    def show_counts(self, counts: list[tuple[str, np.ndarray]]) -> None:
        """(channel, counts) for each channel."""
        self._counts = counts
        self.update()

    def sizeHint(self) -> QSize:
        return QSize(60 * GRID, 6 * GRID)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter, t = QPainter(self), theme()
        painter.fillRect(self.rect(), QColor(t.raised))
        if not self._counts:
            return
        height = self.height() / len(self._counts)
        for row, (name, counts) in enumerate(self._counts):
            top, most = row * height, max(float(counts.max(initial=0)), 1.0)
            width = (self.width() - 6 * GRID) / max(len(counts), 1)
            for k in np.flatnonzero(counts).tolist():
                tall = max(float(counts[k] / most) ** 0.5 * (height - 2), 1.0)
                painter.fillRect(
                    QRectF(6 * GRID + k * width, top + height - tall, max(width - 0.5, 1.0), tall), QColor(t.soft)
                )
            painter.setPen(QColor(t.soft))
            align = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
            painter.drawText(QRectF(0, top, 6 * GRID - 6, height), align, name)
