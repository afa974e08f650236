"""The Compare page: did the change help? Two frames measured in turns, their passes, counts and pictures."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QSettings, Qt
from PySide6.QtGui import QShowEvent
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QHBoxLayout,
    QProgressBar,
    QPushButton,
    QSplitter,
    QVBoxLayout,
    QWidget,
)

from wendascope.desktop.models.commands import JobName
from wendascope.desktop.models.document import Document, Workspace
from wendascope.desktop.pages._registry import Page, page
from wendascope.desktop.views.slider_picture import SliderPicture
from wendascope.desktop.widgets.answer import answer_labels
from wendascope.desktop.widgets.plain import Label
from wendascope.desktop.widgets.rows_table import Column, RowsModel, RowsTable
from wendascope.desktop.widgets.theme import GRID
from wendascope.desktop.window.jobs import JobRunner
from wendascope.errors import CancelledError
from wendascope.frame.frame import Picture
from wendascope.measure.pictures import compare_pictures
from wendascope.texts import three_digits, visible
from wendascope.trials.proofs.compare import Comparison, Difference, compare_files, counts, match_passes

Row = tuple[tuple[str, ...], bool]
"""Texts, and whether the row is soft: it says nothing new."""
_PASSES = (
    ("pass", 0),
    ("steps", 88),
    ("before, ms", 80),
    ("after, ms", 72),
    ("difference, ms", 112),
    ("interval", 136),
    ("", 96),
)
_COUNTS = (("count", 0), ("before", 104), ("after", 104), ("difference", 104))


def _table(columns: tuple[tuple[str, int], ...], name: str) -> RowsTable[Row]:
    """A table in the order of the frame."""

    def column(number: int, title: str, width: int) -> Column[Row]:
        left = number == 0 or title == ""
        return Column(title, width, lambda row: row[0][number], right=not left, soft=lambda row: row[1] and number > 0)

    model: RowsModel[Row] = RowsModel([column(i, *given) for i, given in enumerate(columns)])
    return RowsTable(model, name, sortable=False, several=True, empty="Choose two frames above.")


def _unmeasured(before: Document, after: Document) -> list[Row]:
    """Passes with the times that each frame's own survey has of them: beside each other, but no comparison."""

    def ms(document: Document, index: int | None) -> str:
        known = document.survey is not None and index is not None
        return three_digits(document.survey.passes[index].ms) if known else ""  # type: ignore[union-attr, index]

    def steps(document: Document, index: int | None) -> int:
        passes = document.frame.passes
        return 0 if index is None else int(passes.end[index] - passes.first[index])

    names = before.frame.passes.names, after.frame.passes.names
    rows: list[Row] = []
    for i, j in match_passes(*names):
        name = names[0][i] if i is not None else names[1][j or 0]
        count = f"{steps(before, i):,} > {steps(after, j):,}"
        rows.append(((name, count, ms(before, i), ms(after, j), "", "", ""), True))
    return rows


def sentence(found: Comparison) -> str:
    """The answer: what became of the frame time, or that nothing can be said."""
    d = found.frame
    if not d.changed:
        return (
            f"No change shows: {d.before.median:.1f} ms before, {d.after.median:.1f} ms after; the difference lies in"
            f" {d.difference.low:+.1f} to {d.difference.high:+.1f} ms."
        )
    word = "less" if d.difference.median < 0 else "more"
    return (
        f"The frame takes {abs(d.difference.median):.1f} ms {word}: {d.before.median:.1f} before, {d.after.median:.1f}"
        f" after ({d.difference.low:+.1f} to {d.difference.high:+.1f} ms)."
    )


def _row(name: str, steps: str, ms: Difference | None) -> Row:
    if ms is None:
        return (name, steps, "", "", "", "", "in one"), True
    texts = (
        name, steps, f"{ms.before.median:.2f}", f"{ms.after.median:.2f}", f"{ms.difference.median:+.2f}",
        f"{ms.difference.low:+.2f} to {ms.difference.high:+.2f}", "change" if ms.changed else "no change",
    )  # fmt: skip
    return texts, not ms.changed


@page("Compare", 90)
class ComparePage(Page):
    """Above: which two, and measuring them. Left: passes and counts. Right: the pictures."""

    guide = "over-time"
    alone = True

    def __init__(self, workspace: Workspace, _settings: QSettings) -> None:
        super().__init__()
        self._workspace = workspace
        self._pair: tuple[Path, Path] | None = None
        self._found: Comparison | None = None
        self._stale = True
        self._jobs: JobRunner | None = None
        question, self.answer, self.evidence = answer_labels("Did the change help?")
        self.before, self.after = QComboBox(), QComboBox()
        self.before.setAccessibleName("Before")
        self.after.setAccessibleName("After")
        for box in (self.before, self.after):
            box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToContents)
            box.activated.connect(self._chosen)
        self.swap_button = QPushButton("Swap")
        self.swap_button.clicked.connect(self._swap)
        self.measure_button, self.cancel_button = QPushButton("Measure both"), QPushButton("Cancel")
        self.measure_button.clicked.connect(self.measure)
        self.cancel_button.clicked.connect(self.cancel)
        self.progress = QProgressBar()
        self.progress.setRange(0, 1000)
        self.progress.setFixedWidth(20 * GRID)  # the window fits 1280 pixels while it is shown
        self.lens = QCheckBox("show the difference")
        self.lens.toggled.connect(self._lens)
        row = QHBoxLayout()
        chosen: tuple[QWidget, ...] = (Label("before"), self.before, Label("after"), self.after, self.swap_button)
        for widget in chosen:
            row.addWidget(widget)
        row.addStretch(1)
        work: tuple[QWidget, ...] = (self.progress, self.cancel_button, self.measure_button)
        for widget in work:
            row.addWidget(widget)
        self.passes = _table(_PASSES, "Passes before and after")
        self.counts = _table(_COUNTS, "Counts before and after")
        self.picture = SliderPicture()
        self.picture_text = Label()
        self.picture_text.setWordWrap(True)
        tables = QSplitter(Qt.Orientation.Vertical)
        tables.addWidget(self.passes)
        tables.addWidget(self.counts)
        tables.setSizes([300, 240])
        side = QWidget()
        column = QVBoxLayout(side)
        column.setContentsMargins(0, 0, 0, 0)
        column.addWidget(self.picture, 1)
        below = QHBoxLayout()
        below.addWidget(self.picture_text, 1)
        below.addWidget(self.lens)
        column.addLayout(below)
        across = QSplitter(Qt.Orientation.Horizontal)
        across.addWidget(tables)
        across.addWidget(side)
        across.setSizes([720, 440])
        across.setChildrenCollapsible(False)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(2 * GRID, GRID, 2 * GRID, GRID)
        layout.setSpacing(GRID)
        layout.addWidget(question)
        layout.addWidget(self.answer)
        layout.addWidget(self.evidence)
        layout.addLayout(row)
        layout.addWidget(across, 1)
        self._busy(False)
        workspace.listen(self._refresh)
        self._refresh()

    # ---- the page protocol ------------------------------------------------------------------------------

    def waits_for(self) -> tuple[str, str]:
        return "one frame", "Open a second frame to compare them"

    def figure(self) -> str:
        if self._found is None:
            return "two" if len(self._workspace.documents) > 1 else ""
        ms = self._found.frame
        return f"{ms.difference.median:+.1f} ms" if ms.changed else "same"

    def close_page(self) -> None:
        if self._jobs is not None:
            self._jobs.close()
            self._jobs = None

    # ---- choosing -----------------------------------------------------------------------------------------

    def choose(self, before: Path, after: Path) -> None:
        """Show these two; both must be open."""
        for box, path in ((self.before, before), (self.after, after)):
            box.setCurrentIndex(box.findData(str(path.resolve())))
        self._chosen()

    def _refresh(self) -> None:
        documents = self._workspace.documents
        names = [str(d.path) for d in documents]
        before, after = self.before.currentData(), self.after.currentData()
        first = names.index(before) if before in names else 0
        second = (
            names.index(after)
            if after in names and after != before
            else next((i for i in range(len(names)) if i != first), first)
        )
        for box, index in ((self.before, first), (self.after, second)):
            box.clear()
            for document in documents:
                box.addItem(visible(document.path.name), str(document.path))
            box.setCurrentIndex(index if names else -1)
        self._chosen()

    def _document(self, box: QComboBox) -> Document | None:
        return next((d for d in self._workspace.documents if str(d.path) == box.currentData()), None)

    def _chosen(self) -> None:
        before, after = self._document(self.before), self._document(self.after)
        pair = (before.path, after.path) if before and after and before is not after else None
        if pair != self._pair:
            self._pair, self._found, self._stale = pair, None, True
            self.cancel()
        self._say()
        if self.isVisible():
            self._show_pair()

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        self._show_pair()

    def _swap(self) -> None:
        a, b = self.before.currentIndex(), self.after.currentIndex()
        self.before.setCurrentIndex(b)
        self.after.setCurrentIndex(a)
        self._chosen()

    # ---- measuring -------------------------------------------------------------------------------------------

    def measure(self) -> None:
        """Replay both in turns, in the background."""
        if self._pair is None:
            return
        before, after = self._pair
        if self._jobs is None:
            self._jobs = JobRunner(before)
            self._jobs.progress.connect(self._on_progress)
            self._jobs.busy.connect(lambda _job, busy: self._busy(busy))
        self._jobs.submit(
            JobName.COMPARE,
            lambda _replay, task: (
                (before, after),
                compare_files(before, after, task=task),
            ),
            self._done,
            self._failed,
        )

    def cancel(self) -> None:
        if self._jobs is not None:
            self._jobs.cancel(JobName.COMPARE)

    def _busy(self, busy: bool) -> None:
        self.progress.setVisible(busy)
        self.cancel_button.setVisible(busy)
        self.measure_button.setVisible(not busy)

    def _on_progress(self, _job: str, what: str, part: float) -> None:
        self.progress.setValue(int(1000 * part))
        self.progress.setFormat(f"{what} %p %")

    def _done(self, result: tuple[tuple[Path, Path], Comparison]) -> None:
        pair, found = result
        if pair == self._pair:
            self._found = found
            self._say()
            self._workspace.changed()

    def _failed(self, error: Exception) -> None:
        if not isinstance(error, CancelledError):
            self.evidence.setText(f"The two could not be compared: {error}")

    # ---- saying ------------------------------------------------------------------------------------------------

    def _say(self) -> None:
        before, after = self._document(self.before), self._document(self.after)
        ready = self._pair is not None
        self.measure_button.setEnabled(ready)
        self.swap_button.setEnabled(ready)
        self.lens.setEnabled(ready and self.picture.can_differ)
        if not ready or before is None or after is None:
            self.answer.setText("Open two frames to compare them.")
            self.evidence.setText(
                "Take one before a change and one after it, or open the demo frames: the depot before and after"
                " optimisation."
            )
            self.passes.rows.show_rows([])
            return
        found = self._found
        self.answer.setText(sentence(found) if found else "Not measured yet.")
        self.evidence.setText(
            f"Measured by {found.method}, {found.repeats} pairs of replays in turns. A change is a difference whose 95"
            " % interval excludes zero."
            + "".join(f" {text}: times are of a frame that is not quite the captured one." for text in found.warnings)
            if found
            else (
                "Counts, pictures and times of earlier surveys are shown already. Measuring replays both frames in"
                " turns, so that the machine's noise falls on both, and tells which differences are changes."
            )
        )
        rows = []
        if found:
            rows = [_row("frame", "", found.frame), _row("submitting it", "", found.submit)]
            rows += [_row(p.name, f"{p.steps_before:,} > {p.steps_after:,}", p.ms) for p in found.passes]
        else:
            rows = _unmeasured(before, after)
        self.passes.rows.show_rows(rows)

    def _show_pair(self) -> None:
        """Counts and pictures of the two, when they are first looked at: comparing pictures takes a moment."""
        if not self._stale:
            return
        self._stale = False
        before, after = self._document(self.before), self._document(self.after)
        if self._pair is None or before is None or after is None:
            self.counts.rows.show_rows([])
            self.picture.show_pictures(None, None)
            self.picture_text.setText("")
            return
        table = counts(before.frame, after.frame)
        self.counts.rows.show_rows(
            [
                ((c.what, f"{c.before:,}", f"{c.after:,}", f"{c.after - c.before:+,}"), c.before == c.after)
                for c in table
            ]
        )
        references = before.frame.reference, after.frame.reference
        self.picture.show_pictures(*(None if r is None else r.pixels[::-1, :, :3] for r in references))
        self.lens.setEnabled(self.picture.can_differ)
        self.picture_text.setText(_pictures_text(*references))

    def _lens(self, on: bool) -> None:
        self.picture.show_lens(on)


def _pictures_text(before: Picture | None, after: Picture | None) -> str:
    if before is None or after is None:
        return "One of the two has no picture."
    if before.pixels.shape != after.pixels.shape:
        return "The pictures differ in size."
    count, largest = compare_pictures(before, after, alpha=False)
    if count == 0:
        return "The pictures are identical."
    return f"{count:,} of {before.width * before.height:,} pixels differ, by up to {largest} of 255."
