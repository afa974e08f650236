"""The picture panel: the target at the selected step through a lens, with exposure, a pinned picture and a probe."""

from __future__ import annotations

import functools
from collections.abc import Callable
from typing import Any

import numpy as np
import numpy.typing as npt
from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QSizePolicy, QToolButton, QVBoxLayout, QWidget

from wendascope.desktop.charts.legend import Legend
from wendascope.desktop.models.commands import JobName
from wendascope.desktop.models.document import Document
from wendascope.desktop.views.exposure_row import ExposureRow
from wendascope.desktop.views.picture_view import PictureView
from wendascope.desktop.views.pinned_picture import PinnedPicture, SideBySide
from wendascope.desktop.widgets.plain import Label
from wendascope.desktop.widgets.theme import GRID, figures_font
from wendascope.desktop.window.jobs import JobRunner
from wendascope.errors import CancelledError
from wendascope.frame.contents import ImageValues
from wendascope.frame.frame import Picture
from wendascope.measure.exposure import DEPTH, Exposure, Seen, seen
from wendascope.measure.lenses import lens_named, lenses
from wendascope.measure.object_values import object_values
from wendascope.measure.overdraw import steps_mask
from wendascope.measure.pictures import picture_at
from wendascope.replay.client import Replay
from wendascope.task import Task
from wendascope.texts import plural, share, verb
from wendascope.trials.proofs.runs import Beside

_DELAY_MS = 25
_CHANGE = "today"
"""What is pinned beside the picture of a changed frame."""


class PicturePanel(QWidget):
    """Lens, zoom, picture and probe. Follows the selection of a document."""

    def __init__(self) -> None:
        super().__init__()
        self._document: Document | None = None
        self._jobs: JobRunner | None = None
        self._found: dict[str, Any] | None = None
        self._wanted: tuple[int | None, str] | None = None
        self._shown_lens = "colour"
        self._where = ""
        """What the picture is of."""
        self._alike: int | None = None
        self._pointing = False
        """Whether a program is pointed at here."""
        self.lens = QComboBox()
        for item in lenses():
            self.lens.addItem(item.title, item.name)
        self.lens.setToolTip("How to see the picture")
        self.lens.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.lens.setMinimumContentsLength(14)
        self.lens.currentIndexChanged.connect(self.request)
        self.title = Label()
        self.title.setSizePolicy(
            QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed
        )  # long names do not widen the panel
        self.title.setContentsMargins(GRID, 0, GRID, GRID // 2)
        self.zoom = Label()
        self.zoom.setFont(figures_font())
        self.zoom.setMinimumWidth(5 * GRID)
        self.zoom.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        self.view = PictureView()
        self.pinned = PinnedPicture(self.view)
        self.exposure = ExposureRow()
        self.exposure.hide()
        self.exposure.changed.connect(self._paint)
        self.probe = Label()
        self.probe.setFont(figures_font())
        self.probe.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.outline = self._button("Outline", "Outline what the selected step draws", checkable=True)
        self.outline.toggled.connect(self._ask_outline)
        self.range = self._button("Range", "Choose which channel and which values are shown", checkable=True)
        self.range.clicked.connect(self._paint)
        self.pin = self._button("Pin", "Keep this picture beside the next one that is shown", checkable=True)
        self.pin.clicked.connect(self._pin_asked)
        fit, one = self._button("Fit", "Show the whole picture"), self._button("1:1", "One screen pixel for each pixel")
        fit.clicked.connect(self.view.fit)
        one.clicked.connect(lambda: self.view.set_zoom(1.0))
        lens_label = Label("Lens")
        lens_label.setBuddy(self.lens)
        buttons = QHBoxLayout()
        buttons.setSpacing(GRID)
        buttons.setContentsMargins(GRID, GRID // 2, GRID, GRID // 2)
        buttons.addWidget(lens_label)
        buttons.addWidget(self.lens)
        buttons.addStretch(1)
        for part in (self.outline, self.range, self.pin, fit, one, self.zoom):
            buttons.addWidget(part)
        self.legend = Legend()
        foot = QHBoxLayout()
        foot.setContentsMargins(GRID, 2, GRID, 4)
        foot.addWidget(self.probe, 1)
        shown = QWidget()
        column = QVBoxLayout(shown)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(self.title)
        column.addWidget(self.view, 1)
        self._pair = SideBySide(self.pinned, shown, self.view)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addLayout(buttons)
        layout.addWidget(self.exposure)
        layout.addWidget(self._pair, 1)
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

    def _button(self, text: str, tip: str, checkable: bool = False) -> QToolButton:
        button = QToolButton()
        button.setText(text)
        button.setToolTip(tip)
        button.setCheckable(checkable)
        return button

    def show_document(self, document: Document | None, jobs: JobRunner | None) -> None:
        """Follow another document. The captured picture is shown at once."""
        self._jobs = jobs
        if document is self._document:
            return
        self._document = document
        self._wanted = None
        self.exposure.forget()
        self.unpin()
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
            found = {"pixels": reference.pixels, "name": "captured picture"}
            self._show(found, None, "colour", _seen(document, None, "colour", found, self.exposure.fixed, False))
        else:
            self.request()

    def show_captured(self, picture: Picture) -> None:
        """Show what the program showed, while there is no document to follow yet."""
        self._found, self._shown_lens, self._where = {"pixels": picture.pixels}, "colour", "captured picture"
        self._paint()

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
        self.view.note = "waiting while times are measured" if jobs.reads_clocks else "replaying"
        QTimer.singleShot(250, self.view.update)  # short replays need no note
        fixed, bar = self.exposure.fixed, self.range.isChecked()

        def work(replay: Replay, task: Task) -> tuple[dict[str, Any], Seen | None]:
            found = replay.run(picture_at.asked(step=step, lens=lens), task)
            return found, _seen(document, step, lens, found, fixed, bar)

        jobs.submit(
            JobName.PICTURE,
            work,
            lambda found: self._arrived(document, step, lens, *found),
            lambda error: self._refused(document, error),
            replaces=True,
        )

    def show_progress(self, what: str, part: float) -> None:
        """How far a long count is; short replays come before it is seen."""
        if self.view.note:
            self.view.note = f"{what}, {share(part)}"
            self.view.update()

    def _arrived(
        self, document: Document, step: int | None, lens: str, found: dict[str, Any], seen_as: Seen | None
    ) -> None:
        if document is self._document and (step, lens) == self._wanted:
            self._show(found, step, lens, seen_as)

    def _refused(self, document: Document, error: Exception) -> None:
        if document is self._document and not isinstance(error, CancelledError):
            self._wanted = None
            self.view.note = str(error)
            self.view.update()

    def _show(self, found: dict[str, Any], step: int | None, lens: str, seen_as: Seen | None) -> None:
        self._found, self._shown_lens = found, lens
        chosen = lens_named(lens)
        self.view.note = ""
        self.view.highlight(None)
        self.view.outline(None)
        self.view.figure = functools.partial(chosen.figure, found) if chosen.figure else None
        assert self._document is not None
        passes = self._document.frame.passes
        where = found["name"] if step is None else f"{passes.names[int(passes.of_step[step])]}, after step {step:,}"
        self._where = where
        if self.pinned.name == _CHANGE:
            self.unpin()  # it belongs to the change that is not shown any more
        self.exposure.show_seen(seen_as, _target(lens, found))
        self._paint()
        self.legend.show_entries(chosen.legend(found) if chosen.legend else [])
        self.zoom.setText(f"{100 * self.view.scale:.0f} %")
        self._ask_outline()

    def _paint(self) -> None:
        """The picture of what was found, with the exposure that its target has."""
        if self._found is None:
            return
        chosen, seen_as = lens_named(self._shown_lens), self.exposure.seen
        self.range.setEnabled(chosen.values is not None)
        exposed_ = seen_as is not None and not seen_as.as_it_is
        self.exposure.setVisible(seen_as is not None and (exposed_ or self.range.isChecked()))
        note = chosen.note(self._found) if chosen.note else ""
        said = "; ".join(filter(None, [note, seen_as.sentence if seen_as is not None else ""]))
        self.view.show_image(seen_as.pixels if seen_as is not None and exposed_ else chosen.paint(self._found))
        self.title.setText(f"{self._where}  \u00b7  {said}" if said else self._where)
        self.title.setToolTip(self.title.text())

    # ---- two pictures -----------------------------------------------------------------------------------

    def _pin_asked(self) -> None:
        if self.pin.isChecked() and self._found is not None and self.view.image is not None:
            probe = functools.partial(lens_named(self._shown_lens).probe, self._found)
            self.pinned.show_image(self.view.image, self.title.text(), probe)
        else:
            self.unpin()

    def show_beside(self, kind: str, name: int, title: str) -> None:
        """Pin what a `texture` or `renderbuffer` holds after the selected step."""
        document, jobs = self._document, self._jobs
        if document is None or jobs is None:
            return
        step = document.selection.step
        format_ = document.frame.image_format(kind, name)
        stored = DEPTH if format_.has_depth else format_.kind

        def work(replay: Replay, task: Task) -> Seen:
            asked = object_values.asked(kind=kind, name=name, level=0, layer=0, step=step)
            found = seen(replay.run(asked, task), stored, window=False)
            _ = found.pixels, found.sentence
            return found

        def arrived(found: Seen) -> None:
            if document is self._document:
                said = f"{title}  \u00b7  {found.sentence}" if found.sentence else title
                self.pinned.show_pixels(found.pixels, said, functools.partial(_texel, found.values))
                self.pin.setChecked(True)

        jobs.submit(
            JobName.BESIDE,
            work,
            arrived,
            lambda error: self._refused(document, error),
            replaces=True,
        )

    def leave_change(self) -> None:
        """Back from the pictures of a change to that of the selected step."""
        if self.pinned.name == _CHANGE:
            self.request()

    def unpin(self) -> None:
        """Show one picture again."""
        self.pinned.clear()
        self.pin.setChecked(False)

    def show_difference(self, found: Beside, title: str) -> None:
        """A proof's picture, with everything dimmed that is as it was."""
        self._timer.stop()  # a step chosen just before is not to take its place
        colour, before = lens_named("colour"), {"pixels": found.before}
        self._found, self._shown_lens, self._wanted = {"pixels": found.after}, "colour", None
        self.view.figure = None
        self.view.note = ""
        self.exposure.hide()
        self.view.show_image(colour.paint(self._found))
        self.pinned.show_pixels(colour.paint(before), _CHANGE, functools.partial(colour.probe, before))
        self.pin.setChecked(True)
        different = found.different
        some = bool(different.any())
        self.view.highlight(_grown(different, 6) if some else None)  # single pixels would not be seen
        self.view.outline(_grown(different, 7) if some else None)
        self.legend.show_entries([])
        count = int(different.sum())
        self.title.setText(
            f"{plural(count, 'pixel')} {verb(count, 'differs', 'differ')}: {title}" if some else f"Identical: {title}"
        )
        self.title.setToolTip(self.title.text())

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
        self.pinned.point(at)
        if at is None or self._found is None:
            self.probe.setText("Move over the picture to read a pixel; click to pin it")
            if chosen.alike is not None:
                self.view.highlight(None)
                self._alike = None
            self._point(None)
            return
        x, y = at
        beside = self.pinned.probe(x, y)
        here = chosen.probe(self._found, x, y)
        self.probe.setText(f"x {x}  y {y}   {here}" + (f"   |   {self.pinned.name}: {beside}" if beside else ""))
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


def _target(lens: str, found: dict[str, Any]) -> str:
    """What an exposure is kept for."""
    return f"{lens} of {found['name']}"


def _seen(
    document: Document, step: int | None, lens: str, found: dict[str, Any],
    fixed: Callable[[str], Exposure | None], with_spread: bool,
) -> Seen | None:  # fmt: skip
    """What a lens found as it is seen, with all that takes time, for a thread without a window; None where the lens has
    no values.
    """
    chosen = lens_named(lens)
    if chosen.values is None:
        return None
    passes = document.frame.passes
    target = None if step is None else passes.targets[int(passes.of_step[step])]
    is_window = target is None or not target.framebuffer
    made = seen(*chosen.values(found), is_window, fixed(_target(lens, found)))
    if not made.as_it_is:
        _ = made.pixels, made.sentence
    if with_spread or not made.as_it_is:
        _ = made.spread
    return made


def _texel(values: ImageValues, x: int, y: int) -> str:
    return "  ".join(f"{name} {v:.5g}" for name, v in zip(values.channels, values.values[y, x], strict=False))


def _grown(mask: npt.NDArray[np.bool_], pixels: int) -> npt.NDArray[np.bool_]:
    """Where a mask is set within so many pixels along each side, shape (h, w)."""
    for axis in (0, 1):
        around = [(pixels, pixels) if axis == side else (0, 0) for side in (0, 1)]
        windows = np.lib.stride_tricks.sliding_window_view(np.pad(mask, around), 2 * pixels + 1, axis=axis)
        mask = np.asarray(windows.any(axis=-1))
    return mask
