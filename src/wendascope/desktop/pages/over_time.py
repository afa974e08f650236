"""The Over time page: the frames of a sequence beside each other."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QSettings
from PySide6.QtWidgets import QTabWidget

from wendascope import records
from wendascope.analysis.sequence.over_time import (
    FrameInTime,
    OverTime,
    frame_in_time,
    over_time,
    same_again,
    same_results,
)
from wendascope.desktop.charts.frames_chart import FramesChart
from wendascope.desktop.models.commands import JobName
from wendascope.desktop.models.document import Document, Workspace
from wendascope.desktop.pages._following import FramePage
from wendascope.desktop.pages._registry import page
from wendascope.desktop.views.findings_view import FindingsView
from wendascope.desktop.views.late_views_view import LateViewsView
from wendascope.desktop.views.lights_view import LightsView
from wendascope.desktop.widgets.rows_table import Column, RowsModel, RowsTable
from wendascope.frame.file import load
from wendascope.frame.places import frame_path, place_of
from wendascope.task import Task
from wendascope.texts import three_digits


@page("Over time", 85)
class OverTimePage(FramePage):
    """Answer sentence, a column for each frame, then the table. A frame that is chosen is opened."""

    guide = "over-time"
    stages = ("sequence",)

    works_hidden = True

    def __init__(self, workspace: Workspace, _settings: QSettings) -> None:
        super().__init__(workspace, "Which frame is slow, and what does it do that the others do not?")
        self._known: dict[Path, OverTime] = {}
        self._asked: set[Path] = set()
        self._same: dict[Path, str] = {}
        """What comes out the same in all frames of a file, once that is known: it changes no more."""
        self.chart = FramesChart()
        self.table: RowsTable[FrameInTime] = RowsTable(
            RowsModel(_columns()),
            "Frames of the sequence",
            empty="Capture several frames into one file: on the Capture page, or with capture --frames 8.",
        )
        self.table.rows.tip = lambda row: row.beside
        self.views = LateViewsView(workspace)
        self.lights = LightsView(workspace)
        self.findings = FindingsView(workspace, "Over time")
        self.room.addWidget(self.chart, 1)
        self.tabs = QTabWidget()
        for title, part in (
            ("Frames", self.table),
            ("Findings", self.findings),
            ("Views", self.views),
            ("Lights and parts", self.lights),
        ):
            self.tabs.addTab(part, title)
        self.room.addWidget(self.tabs, 2)
        self.chart.chosen.connect(self._go)
        self.table.doubleClicked.connect(lambda _index: self._go_to_chosen())
        self.table.activated.connect(lambda _index: self._go_to_chosen())
        self.follow()

    def waits_for(self) -> tuple[str, str]:
        return "one frame", "Capture several frames into one file to see them over time"

    def figure(self) -> str:
        found = self._shown()
        if found is None or len(found.frames) < 2:
            return ""
        return f"#{found.frames[found.slow].number}" if found.slow >= 0 else "even"

    def _file(self) -> Path | None:
        return place_of(self._document.path)[0] if self._document else None

    def _shown(self) -> OverTime | None:
        file = self._file()
        return self._known.get(file) if file is not None else None

    def refresh(self, document: Document | None) -> None:
        for view in (self.findings, self.views, self.lights):
            view.show_document(document)
        file = self._file()
        if document is None or file is None:
            self.say("")
            self._show(None)
            return
        if document.frames < 2:
            self.say("One frame.", "A sequence of frames shows which one is slow, and why.")
            self._show(None)
            return
        found = self._known.get(file)
        if found is None:
            self.say("Reading the frames ...")
            self._show(None)
            self._read(file, document.frames)
            return
        self.say(
            found.sentence, f"{self._again(file)} {found.why} Times are those of recording, which makes calls slower."
        )
        self._show(found)

    def _again(self, file: Path) -> str:
        """What comes out the same in all frames, or how to know it."""
        if file not in self._same:
            results = records.SEQUENCE_RESULTS.newest(file)
            if results is None:
                return "Measure a frame to see which passes come out the same in all of them."
            self._same[file] = same_again(
                same_results(results.digests, results.keys, results.names), len(results.names)
            )
        return self._same[file]

    def _show(self, found: OverTime | None) -> None:
        current = place_of(self._document.path)[1] - 1 if self._document else -1
        frames = found.frames if found else []
        self.chart.setVisible(bool(frames))
        self.chart.show_frames(frames, found.slow if found else -1, current, self._workspace.budget_ms)
        self.table.rows.tinted = lambda row: row.number == current + 1
        self.table.rows.show_rows(frames)

    def _read(self, file: Path, count: int) -> None:
        """Read all frames in the background, one after the other: they are large."""
        if file in self._asked:
            return
        self._asked.add(file)

        def work(_replay: object, task: Task) -> OverTime:
            rows = []
            for number in range(1, count + 1):
                task.progress("reading the frames", number / count)
                rows.append(frame_in_time(load(frame_path(file, number)), number))
            return over_time(rows)

        def arrived(found: OverTime) -> None:
            self._known[file] = found
            if self._document is not None:
                self._document.changed()  # the rail has its figure now

        def failed(error: Exception) -> None:
            self._asked.discard(file)
            self.say("The frames could not be read.", str(error))

        self._workspace.jobs.run_job(JobName.SEQUENCE, work, arrived, failed)

    def _go(self, place: int) -> None:
        file = self._file()
        if file is not None:
            self._workspace.commands.open_files([frame_path(file, place + 1)])

    def _go_to_chosen(self) -> None:
        if self.table.chosen is not None:
            self._go(self.table.chosen.number - 1)


def _columns() -> list[Column[FrameInTime]]:
    def ms(title: str, name: str, tip: str) -> Column[FrameInTime]:
        return Column(title, 72, lambda row: three_digits(getattr(row, name)), lambda row: getattr(row, name), tip=tip)

    return [
        Column("frame", 56, lambda row: f"{row.number}", lambda row: row.number),
        ms("ms", "ms", "From frame end to frame end, while recorded"),
        ms("calls, ms", "calls_ms", "Inside OpenGL calls that do not wait"),
        ms("waits, ms", "waits_ms", "Inside calls that wait"),
        ms("own, ms", "own_ms", "The program's own code"),
        Column("steps", 64, lambda row: f"{row.steps:,}", lambda row: row.steps),
        Column("passes", 64, lambda row: f"{row.passes}", lambda row: row.passes),
        Column("beside drawing", 0, lambda row: row.beside, right=False),
    ]
