"""The Capture page: run a program under the tap, watch its frames, take the ones that matter."""

from __future__ import annotations

import contextlib
import html
from pathlib import Path

import msgspec
from PySide6.QtCore import QEvent, QObject, QSettings, Qt
from PySide6.QtGui import QKeySequence, QShortcut
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDoubleSpinBox,
    QFileDialog,
    QFrame,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPlainTextEdit,
    QPushButton,
    QScrollArea,
    QSizePolicy,
    QSpinBox,
    QSplitter,
    QTabWidget,
    QVBoxLayout,
    QWidget,
)

from wendascope.desktop.charts.live_strip import LiveStrip
from wendascope.desktop.models.document import Workspace
from wendascope.desktop.models.session import SessionModel
from wendascope.desktop.pages._registry import Page, page
from wendascope.desktop.views.marks_view import MarksView
from wendascope.desktop.widgets.answer import answer_labels
from wendascope.desktop.widgets.plain import Label
from wendascope.desktop.widgets.theme import GRID, figures_font
from wendascope.desktop.window.capture_form import CaptureForm
from wendascope.desktop.window.capture_list import CaptureTable
from wendascope.desktop.window.session_link import SessionLink
from wendascope.errors import WendascopeError
from wendascope.tap.messages import Do, Event, Take
from wendascope.tap.sessions import listening
from wendascope.texts import visible

_STATES = {
    "none": "",
    "starting": "starting",
    "running": "running",
    "waiting": "waiting",
    "held": "paused",
    "taking": "taking a frame",
    "ended": "ended",
}


def _heading(text: str) -> QLabel:
    label = Label(text)
    label.setObjectName("heading")
    font = label.font()
    font.setBold(True)
    label.setFont(font)
    return label


class _Column(QScrollArea):
    """Scrolls up and down only: it is always as wide as what stands in it."""

    def __init__(self) -> None:
        super().__init__()
        self.setWidgetResizable(True)
        self.setFrameShape(QFrame.Shape.NoFrame)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        content = self.widget()
        if content is not None and event.type() == QEvent.Type.LayoutRequest:
            needed = content.minimumSizeHint().width() + self.verticalScrollBar().sizeHint().width()
            self.setFixedWidth(max(46 * GRID, needed))
        return super().eventFilter(watched, event)


_FIRST = """1. Start a program on the left and take the frame that is too slow; or open the demo frames.
2. Measure it: Ctrl+M.
3. The Plan page says what to change first, and whether that reaches the budget."""


@page("Capture", -10)
class CapturePage(Page):
    """Left: what to run and when to take. Right: its frames, the captures, what it writes."""

    guide = "first-capture"
    alone = True
    """Takes the room of the frame's strip, picture and facts."""

    def __init__(self, workspace: Workspace, settings: QSettings) -> None:
        super().__init__()
        self._workspace = workspace
        self._settings = settings
        self.session = SessionModel()
        self.link = SessionLink()
        self.link.told.connect(self._told)
        self.link.failed.connect(self._failed)
        question, self.answer, self.evidence = answer_labels("Which frame is too slow?")
        self.evidence.setTextFormat(Qt.TextFormat.RichText)
        left = QWidget()
        column = QVBoxLayout(left)
        column.setContentsMargins(2 * GRID, GRID, GRID, GRID)
        column.setSpacing(GRID)
        for part in (self._target_part(), self._take_part(), self._collect_part(), self._open_part()):
            column.addWidget(part)
        column.addStretch(1)
        scroll = _Column()
        scroll.setWidget(left)
        right = QVBoxLayout()
        right.setContentsMargins(2 * GRID, GRID, 2 * GRID, GRID)
        right.setSpacing(GRID)
        self.strip = LiveStrip()
        for widget in (question, self.answer, self.evidence, self.strip):
            right.addWidget(widget)
        self.table = CaptureTable(self.session)
        self.table.opened.connect(lambda path: workspace.commands.open_files([path]))
        self.table.compared.connect(self._compare)
        self.output = QPlainTextEdit()
        self.output.setReadOnly(True)
        self.output.setMaximumBlockCount(2000)
        self.output.setFont(figures_font(0.95))
        self.output.setPlaceholderText("what the program writes")
        self.output.setAccessibleName("Output of the program")
        self._lines_shown = 0
        self._was_running = False
        self.marks = MarksView(self.session)
        self.marks.asked.connect(lambda: self.link.send(Do("mark")))
        self.tabs = QTabWidget()
        self.tabs.addTab(self.table, "Captures")
        self.tabs.addTab(self.marks, "Memory")
        parts = QSplitter(Qt.Orientation.Vertical)
        parts.addWidget(self.tabs)
        parts.addWidget(self.output)
        parts.setSizes([360, 120])
        parts.setChildrenCollapsible(False)
        right.addWidget(parts, 1)
        across = QHBoxLayout(self)
        across.setContentsMargins(0, 0, 0, 0)
        across.setSpacing(0)
        across.addWidget(scroll)
        across.addLayout(right, 1)
        self._shortcuts()
        self.session.listen(self._refresh)
        workspace.listen(self._refresh)
        self._refresh()

    # ---- parts ---------------------------------------------------------------------------------------

    def _target_part(self) -> QWidget:
        self.form = CaptureForm(self._settings)
        self.form.submitted.connect(self.start)
        self.start_button, self.stop_button = QPushButton("Start"), QPushButton("Stop")
        self.start_button.setDefault(True)
        self.start_button.clicked.connect(self.start)
        self.stop_button.setToolTip("End the program")
        self.stop_button.clicked.connect(lambda: self.link.send(Do("stop")))
        self.leave_button = QPushButton("Leave")
        self.leave_button.setToolTip("End the capture session; the program keeps running")
        self.leave_button.clicked.connect(lambda: self.link.send(Do("leave")))
        self.attach = QComboBox()
        self.attach.setToolTip("Programs that were started with `wendascope capture --listen NAME -- PROGRAM`")
        self.attach.activated.connect(self._attach)
        buttons = QHBoxLayout()
        for button in (self.start_button, self.stop_button, self.leave_button):
            buttons.addWidget(button)
        box = QWidget()
        layout = QVBoxLayout(box)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addWidget(_heading("Run a program"))
        layout.addWidget(self.form)
        layout.addLayout(buttons)
        layout.addWidget(self.attach)
        return box

    def _take_part(self) -> QWidget:
        self.after, self.slower = QDoubleSpinBox(), QDoubleSpinBox()
        self.at_frame, self.count, self.every = QSpinBox(), QSpinBox(), QSpinBox()
        self.after.setRange(0.1, 3600)
        self.after.setValue(float(self._settings.value("take_after", 3.0)))  # type: ignore[arg-type]
        self.after.setSuffix(" s")
        self.after.setDecimals(1)
        self.slower.setRange(0.1, 60000)
        self.slower.setDecimals(1)
        self.slower.setValue(float(self._settings.value("take_slower", self._workspace.budget_ms)))  # type: ignore[arg-type]
        self.slower.setSuffix(" ms")
        self.at_frame.setRange(1, 1_000_000_000)
        self.at_frame.setValue(int(self._settings.value("take_frame", 100)))  # type: ignore[call-overload]
        self.now_button, self.after_button = QPushButton("Take now"), QPushButton("Take after")
        self.frame_button, self.slower_button = QPushButton("Take at frame"), QPushButton("Take when slower than")
        self.now_button.setToolTip("Ctrl+T")
        self.now_button.clicked.connect(lambda: self.take(Take()))
        self.after_button.clicked.connect(lambda: self.take(Take(after_seconds=self.after.value())))
        self.frame_button.clicked.connect(lambda: self.take(Take(frame=self.at_frame.value())))
        self.slower_button.clicked.connect(lambda: self.take(Take(slower_than_ms=self.slower.value())))
        self.cancel_button = QPushButton("Cancel")
        self.cancel_button.clicked.connect(lambda: self.link.send(Do("cancel")))
        self.hold_button, self.step_button = QPushButton("Pause"), QPushButton("One frame on")
        self.hold_button.setToolTip("Stop the program at the end of its frame, or let it go on (Ctrl+J)")
        self.hold_button.clicked.connect(self.hold_or_go)
        self.step_button.setToolTip("Step one frame (Ctrl+K)")
        self.step_button.clicked.connect(lambda: self.link.send(Do("step")))
        self.waiting = Label()
        self.waiting.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        grid = QGridLayout()
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setHorizontalSpacing(GRID)
        grid.setVerticalSpacing(GRID // 2)
        grid.addWidget(self.now_button, 0, 0)
        grid.addWidget(self.cancel_button, 0, 1)
        for row, (button, field) in enumerate(
            ((self.after_button, self.after), (self.frame_button, self.at_frame), (self.slower_button, self.slower)), 1
        ):
            grid.addWidget(button, row, 0)
            grid.addWidget(field, row, 1)
        grid.addWidget(self.hold_button, 4, 0)
        grid.addWidget(self.step_button, 4, 1)
        grid.addWidget(self.waiting, 5, 0, 1, 2)
        grid.setColumnStretch(0, 1)
        grid.setColumnStretch(1, 1)
        box = QWidget()
        layout = QVBoxLayout(box)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addWidget(_heading("Take a frame"))
        layout.addLayout(grid)
        return box

    def _collect_part(self) -> QWidget:
        self.keep_unused, self.keep_depth = QCheckBox("contents of unused objects"), QCheckBox("depth of the picture")
        self.keep_unused.setChecked(str(self._settings.value("collect_unused", "true")) == "true")
        self.keep_depth.setChecked(str(self._settings.value("collect_depth", "false")) == "true")
        self.keep_following = QCheckBox("calls of the frame after")
        self.keep_following.setChecked(str(self._settings.value("collect_following", "true")) == "true")
        self.keep_following.setToolTip(
            "Proofs use them to tell whether contents left behind are read again. The program runs one frame more"
            " while it is recorded"
        )
        self.keep_unused.setToolTip(
            "Contents of textures and buffers that the frame does not use: not needed for replay"
        )
        self.keep_depth.setToolTip(
            "The depth of the finished picture, so that verifying compares it as well; not on OpenGL ES"
        )
        self.count.setRange(1, 100)
        self.count.setValue(int(self._settings.value("collect_frames", 1)))  # type: ignore[call-overload]
        self.count.setToolTip("How many frames go into one file")
        self.every.setRange(1, 1000)
        self.every.setValue(int(self._settings.value("collect_every", 1)))  # type: ignore[call-overload]
        self.every.setToolTip("Of several frames, take every so many: 1 takes them one right after the other")
        self.count.valueChanged.connect(lambda count: self.every.setEnabled(count > 1))
        self.every.setEnabled(self.count.value() > 1)
        self.unused_cost, self.depth_cost, self.count_cost = Label(), Label(), Label()
        self.folder = QLineEdit(str(self._settings.value("captures", "~/Wendascope")))
        self.folder.setToolTip("Folder for the files")
        browse = QPushButton("...")
        browse.setFixedWidth(4 * GRID)
        browse.clicked.connect(self._browse)
        frames = QHBoxLayout()
        frames.addWidget(Label("frames"))
        frames.addWidget(self.count)
        frames.addWidget(Label("every"))
        frames.addWidget(self.every)
        form = QGridLayout()
        form.setContentsMargins(0, 0, 0, 0)
        form.setVerticalSpacing(GRID // 2)
        form.addWidget(self.keep_unused, 0, 0)
        form.addWidget(self.keep_depth, 1, 0)
        form.addWidget(self.keep_following, 2, 0)
        form.addLayout(frames, 3, 0)
        for row, cost in ((0, self.unused_cost), (1, self.depth_cost), (3, self.count_cost)):
            form.addWidget(cost, row, 1, Qt.AlignmentFlag.AlignRight)
        form.setColumnStretch(0, 1)
        files = QHBoxLayout()
        files.addWidget(Label("Files to"))
        files.addWidget(self.folder, 1)
        files.addWidget(browse)
        box = QWidget()
        layout = QVBoxLayout(box)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addWidget(_heading("Collect"))
        layout.addLayout(form)
        layout.addLayout(files)
        return box

    def _open_part(self) -> QWidget:
        self.open_button, self.demo_button = (
            QPushButton("Open a captured frame..."),
            QPushButton("Open the demo frames"),
        )
        self.recent_files = Label()
        self.recent_files.setTextFormat(Qt.TextFormat.RichText)
        self.recent_files.setWordWrap(True)
        self.recent_files.linkActivated.connect(lambda name: self._workspace.commands.open_files([Path(name)]))
        box = QWidget()
        layout = QVBoxLayout(box)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addWidget(_heading("Or open files"))
        buttons = QHBoxLayout()
        self.open_button.clicked.connect(lambda: self._workspace.commands.choose_files())
        self.demo_button.clicked.connect(lambda: self._workspace.commands.open_demo())
        buttons.addWidget(self.open_button)
        buttons.addWidget(self.demo_button)
        layout.addLayout(buttons)
        layout.addWidget(self.recent_files)
        return box

    def _shortcuts(self) -> None:
        for keys, run in (
            ("Ctrl+T", self.now_button.click),
            ("Ctrl+J", self.hold_button.click),
            ("Ctrl+K", self.step_button.click),
            ("Ctrl+Shift+M", self._mark),
        ):
            QShortcut(QKeySequence(keys), self, run)

    # ---- the page -------------------------------------------------------------------------------

    def figure(self) -> str:
        if self.session.running:
            return _STATES[self.session.state] if self.session.state != "running" else "live"
        return str(len(self.session.rows)) if self.session.rows else "start"

    def close_page(self) -> None:
        """Before the window goes: remember, and end what was started here."""
        for name, value in (
            ("take_after", self.after.value()),
            ("take_slower", self.slower.value()),
            ("take_frame", self.at_frame.value()),
            ("collect_unused", "true" if self.keep_unused.isChecked() else "false"),
            ("collect_depth", "true" if self.keep_depth.isChecked() else "false"),
            ("collect_following", "true" if self.keep_following.isChecked() else "false"),
            ("collect_frames", self.count.value()),
            ("collect_every", self.every.value()),
            ("captures", self.folder.text()),
        ):
            self._settings.setValue(name, value)
        if self.session.running:
            self.link.send(Do("stop" if self.session.name.startswith("window-") else "cancel"))
        self.link.close()

    def show_recent(self, names: list[str]) -> None:
        links = [f'<a href="{html.escape(n, quote=True)}">{html.escape(visible(Path(n).name))}</a>' for n in names[:5]]
        self.recent_files.setText("Before: " + ", ".join(links) if links else "")

    # ---- what the user does ---------------------------------------------------------------------------------

    def start(self) -> None:
        """Run the program of the form under the tap."""
        if self.session.running:
            return
        choice = self.form.choice()
        if not choice.program:
            self._failed("name the program to run first")
            self.form.program.setFocus()
            return
        try:
            command, environment = choice.command, choice.assignments
        except ValueError as error:
            self._failed(f"arguments or environment: {error}")
            return
        self.form.remember(choice)
        self._lines_shown = 0
        self.output.clear()
        self.session.begin(command)
        self.link.start(command, choice.folder, environment, Path(self.folder.text()).expanduser(), choice.frame_end)

    def take(self, when: Take) -> None:
        """Take frames with what is to be collected."""
        if self.session.running:
            self.link.send(
                msgspec.structs.replace(
                    when,
                    frames=self.count.value(),
                    every=self.every.value(),
                    unused=self.keep_unused.isChecked(),
                    depth=self.keep_depth.isChecked(),
                    following=self.keep_following.isChecked(),
                )
            )

    def hold_or_go(self) -> None:
        self.link.send(Do("go" if self.session.state == "held" else "hold"))

    def _mark(self) -> None:
        self.tabs.setCurrentWidget(self.marks)
        self.marks.mark.click()

    def _attach(self, index: int) -> None:
        name = self.attach.itemData(index)
        if name and not self.session.running:
            self._lines_shown = 0
            self.output.clear()
            self.session.begin([])
            self.link.attach(name)

    def _browse(self) -> None:
        name = QFileDialog.getExistingDirectory(self, "Folder for captured frames", self.folder.text())
        if name:
            self.folder.setText(name)

    def _compare(self, path: Path) -> None:
        if self.session.baseline is not None:
            self._workspace.commands.compare(self.session.baseline, path)

    # ---- following -----------------------------------------------------------------------------------------------

    def _told(self, event: Event) -> None:
        self.table.fetch(self.session.take_in(event))

    def _failed(self, text: str) -> None:
        self.session.problem = text
        if self.session.running:
            self.session.state, self.session.text = "ended", text
        self.session.changed()

    def _refresh(self) -> None:
        session, budget = self.session, self._workspace.budget_ms
        running, held, waiting = session.running, session.state == "held", session.state == "waiting"
        self.answer.setText(session.sentence(budget))
        bound = session.bound()
        told = bound.sentence if bound and running else _FIRST
        self.evidence.setText(
            f"<b>{html.escape(session.problem[:1].upper() + session.problem[1:])}</b>"
            if session.problem
            else html.escape(told).replace("\n", "<br>")
        )
        self.strip.show_beats(session.beats, budget)
        self.marks.refresh()
        self.start_button.setEnabled(not running)
        self.form.setEnabled(not running)
        for button in (self.stop_button, self.leave_button):
            button.setEnabled(running)
        ready = running and session.state in ("running", "held", "waiting") and not (waiting and session.text)
        for button in (self.now_button, self.after_button, self.frame_button, self.slower_button):
            button.setEnabled(ready)
        self.hold_button.setEnabled(session.state in ("running", "held"))
        self.hold_button.setText("Resume" if held else "Pause")
        self.step_button.setEnabled(held)
        self.cancel_button.setEnabled(waiting)
        self.waiting.setText(": ".join(filter(None, (_STATES[session.state], session.text if running else ""))))
        self._show_costs()
        if running != self._was_running:
            self._was_running = running
            self._fill_attach()
        fresh = min(session.lines_written - self._lines_shown, len(session.output))
        if fresh > 0:
            self.output.appendPlainText("\n".join(list(session.output)[-fresh:]))
            self._lines_shown = session.lines_written

    def _show_costs(self) -> None:
        """What each choice costs, by the last capture of this capture session."""
        rows = self.session.rows
        if not rows:
            self.unused_cost.setText("")
            self.depth_cost.setText("")
            self.count_cost.setText("")
            return
        last = rows[-1].taken
        self.unused_cost.setText(
            f"{last.unused_bytes / 1e6:.1f} MB last time" if self.keep_unused.isChecked() else "left out"
        )
        self.depth_cost.setText("4 bytes per pixel")
        self.count_cost.setText(f"{last.held_seconds:.2f} s paused, {last.bytes / 1e6:.1f} MB each")

    def _fill_attach(self) -> None:
        names: list[str] = []
        with contextlib.suppress(WendascopeError, OSError):
            names = [n for n in listening() if not n.startswith("window-")] if not self.session.running else []
        self.attach.clear()
        self.attach.addItem("Attach to a program that listens" if names else "No other program listens", "")
        for name in names:
            self.attach.addItem(name, name)
        self.attach.setEnabled(bool(names))
        self.attach.setVisible(not self.session.running)

    def showEvent(self, event) -> None:  # type: ignore[no-untyped-def]
        super().showEvent(event)
        self._fill_attach()
