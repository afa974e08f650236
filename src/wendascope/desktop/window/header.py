"""The header: which frame, how long against which budget, measuring and its progress."""

from __future__ import annotations

import html

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import (
    QComboBox,
    QDoubleSpinBox,
    QHBoxLayout,
    QProgressBar,
    QPushButton,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from wendascope.analysis.time.budget import BUDGETS_MS
from wendascope.desktop.models.document import Workspace
from wendascope.desktop.widgets.plain import Label
from wendascope.desktop.widgets.theme import GRID, figures_font
from wendascope.frame.places import frame_path, place_of
from wendascope.measure.certainty import doubts
from wendascope.texts import capital, visible

_OWN = -1.0


class Header(QWidget):
    """Follows the workspace; emits what the user asks for."""

    measure = Signal()
    cancel = Signal()

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self._workspace = workspace
        self.files = QComboBox()
        self.files.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToContents)
        self.files.setToolTip("Open frames")
        self.files.activated.connect(self._file_chosen)
        self.sequence = QComboBox()
        self.sequence.setAccessibleName("Frame of the sequence")
        self.sequence.setToolTip("Frames of this sequence, in the order in which they were taken")
        self.sequence.activated.connect(self._frame_chosen)
        self.about = Label()
        self.about.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        self.time = Label()
        self.time.setFont(figures_font(1.35))
        self.budget = QComboBox()
        for rate, ms in sorted(BUDGETS_MS.items(), reverse=True):
            self.budget.addItem(f"{ms:g} ms, {rate} a second", ms)
        self.budget.addItem("own budget", _OWN)
        self.budget.activated.connect(self._budget_chosen)
        self.own = QDoubleSpinBox()
        self.own.setRange(0.1, 10000)
        self.own.setDecimals(1)
        self.own.setSuffix(" ms")
        self.own.setKeyboardTracking(False)
        self.own.valueChanged.connect(workspace.set_budget)
        self.button = QPushButton("Measure")
        self.button.setToolTip("Time the frame, its passes and its steps")
        self.button.clicked.connect(self.measure)
        self.progress = QProgressBar()
        self.progress.setRange(0, 1000)
        self.progress.setFixedWidth(26 * GRID)
        self.progress.setFormat("")
        self.stop = QPushButton("Cancel")
        self.stop.clicked.connect(self.cancel)
        self.notice = Label()
        self.notice.setTextFormat(Qt.TextFormat.RichText)
        self.notice.setWordWrap(True)
        self.notice.linkActivated.connect(self._notice_read)
        self.notice.setTextInteractionFlags(Qt.TextInteractionFlag.TextBrowserInteraction)
        self.notice.setContentsMargins(2 * GRID, GRID, 2 * GRID, 0)
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.setSpacing(0)
        outer.addWidget(self.notice)
        layout = QHBoxLayout()
        outer.addLayout(layout)
        layout.setContentsMargins(2 * GRID, GRID, 2 * GRID, GRID)
        layout.setSpacing(GRID)
        layout.addWidget(self.files)
        layout.addWidget(self.sequence)
        layout.addWidget(self.about, 1)
        layout.addWidget(self.time)
        budget_label = Label("Budget")
        budget_label.setBuddy(self.budget)
        for widget in (budget_label, self.budget, self.own, self.progress, self.stop, self.button):
            layout.addWidget(widget, 0, Qt.AlignmentFlag.AlignVCenter)
        self.show_progress(None)
        workspace.listen(self._refresh)
        self._refresh()

    def show_progress(self, what: str | None, part: float = 0.0) -> None:
        """Show a running measurement; None when there is none."""
        for widget in (self.progress, self.stop):
            widget.setVisible(what is not None)
        self.button.setVisible(what is None)
        self.progress.setValue(int(1000 * part))
        self.progress.setFormat(f"{what} %p %" if what else "")

    def _refresh(self) -> None:
        workspace = self._workspace
        self.files.clear()
        for document in workspace.documents:
            self.files.addItem(visible(document.path.name), str(document.path))
        current = workspace.current
        self.files.setVisible(bool(workspace.documents))
        self.button.setEnabled(current is not None)
        self._show_sequence()
        self._show_budget()
        self._show_notice()
        if current is None:
            self.about.setText("")
            self.time.setText("")
            return
        self.files.setCurrentIndex(workspace.documents.index(current))
        width, height = current.frame.size
        self.about.setText(f"{width} x {height}   {current.frame.context}")
        self.about.setToolTip(current.frame.context.renderer)
        self.refresh_time()

    def _show_sequence(self) -> None:
        """The frames of the file that the shown one is of; hidden where it is the only one."""
        current = self._workspace.current
        count = current.frames if current else 1
        self.sequence.setVisible(count > 1)
        if self.sequence.count() != count:
            self.sequence.clear()
            self.sequence.addItems([f"frame {number} of {count}" for number in range(1, count + 1)])
        if current is not None:
            self.sequence.setCurrentIndex(place_of(current.path)[1] - 1)

    def _frame_chosen(self, index: int) -> None:
        current = self._workspace.current
        if current is not None:
            self._workspace.commands.open_files([frame_path(current.path, index + 1)])

    def _show_notice(self) -> None:
        """Above everything, on every page: that what is shown is not quite the captured frame, or comes from a
        stranger.
        """
        current = self._workspace.current
        verification = current.verification if current else None
        lines = []
        if verification is not None and not verification.identical:
            lines.append(
                f"<b>{html.escape(capital(verification.sentence))}.</b> Nothing is proved on this"
                " frame; times are those of a frame that is not quite the captured one."
            )
        if current is not None and current.introduction:
            lines.append(f'{html.escape(current.introduction)} <a href="read">Hide this</a>')
        self.notice.setVisible(bool(lines))
        self.notice.setText("<br>".join(lines))

    def _notice_read(self, _link: str) -> None:
        if self._workspace.current is not None:
            self._workspace.current.set_introduction("")

    def refresh_time(self) -> None:
        """After a measurement."""
        self._show_notice()
        current = self._workspace.current
        verdict = current.verdict(self._workspace.budget_ms) if current else None
        if current is None or verdict is None or current.survey is None:
            self.time.setText("")
            return
        who = {"GPU": "GPU-bound", "CPU": "CPU-bound", "elsewhere": "waits outside OpenGL", "nobody": "within budget"}[
            verdict.late
        ]
        longest = verdict.ratio * self._workspace.budget_ms
        unsure = doubts(current.survey)
        mark = "   unsure" if unsure else ""
        self.time.setText(f"{longest:.1f} ms of {self._workspace.budget_ms:g}   {who}{mark}")
        self.time.setToolTip("\n".join([verdict.evidence, *unsure]))

    def _show_budget(self) -> None:
        at = self.budget.findData(self._workspace.budget_ms)
        self.budget.setCurrentIndex(at if at >= 0 else self.budget.findData(_OWN))
        self.own.setVisible(at < 0)
        self.own.blockSignals(True)
        self.own.setValue(self._workspace.budget_ms)
        self.own.blockSignals(False)

    def _budget_chosen(self, index: int) -> None:
        ms = self.budget.itemData(index)
        if ms == _OWN:
            self.own.setVisible(True)
            self.own.setFocus()
            self.own.selectAll()
        else:
            self._workspace.set_budget(ms)

    def _file_chosen(self, index: int) -> None:
        if 0 <= index < len(self._workspace.documents):
            self._workspace.show(self._workspace.documents[index])
