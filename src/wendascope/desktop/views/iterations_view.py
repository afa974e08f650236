"""Loops cut short: a slider for the iterations, and time and picture difference against their count."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QComboBox, QPushButton, QSlider, QSplitter, QWidget

from wendascope.analysis.shaders.cost import Loop
from wendascope.analysis.shaders.study import ProgramStudy
from wendascope.desktop.models.commands import JobName, Work
from wendascope.desktop.models.document import Document, Workspace
from wendascope.desktop.views.source_view import LONGEST_SECONDS
from wendascope.desktop.widgets.answer import lay_out
from wendascope.desktop.widgets.plain import Label
from wendascope.desktop.widgets.rows_table import Column, RowsModel, RowsTable
from wendascope.desktop.widgets.theme import GRID, figures_font, theme
from wendascope.frame.remedy import Remedy
from wendascope.glsl.stages import Stage
from wendascope.measure.statistics import Interval, median_interval
from wendascope.trials.experiments.limit_runs import VariantTimes, measure_variants
from wendascope.trials.experiments.log import attempt

_MOST_UNKNOWN = 64
"""The most iterations that can be asked for where nobody knows how many there are."""
_AT_ONCE = 6
_QUICK, _CAREFUL = 3, 6
"""Repeats of a single count, and of several."""


@dataclass(frozen=True)
class Tried:
    """One count of iterations. Times are of the program's steps."""

    iterations: int
    ms: float
    saved_ms: Interval
    """Of pairs, 95 % where there are enough of them, else all."""
    pixels: int
    mean: float


_COLUMNS: list[Column[Tried]] = [
    Column("iterations", 96, lambda t: f"{t.iterations:,}", lambda t: t.iterations),
    Column(
        "steps, ms", 74, lambda t: f"{t.ms:.2f}", lambda t: t.ms, "Measured: its draws with so many iterations, median"
    ),
    Column(
        "saved, ms",
        78,
        lambda t: f"{t.saved_ms.median:.2f}",
        lambda t: t.saved_ms.median,
        "Measured: original less changed, median of pairs",
    ),
    Column(
        "interval",
        0,
        lambda t: f"{t.saved_ms.low:.2f} to {t.saved_ms.high:.2f}",
        tip="Of what is saved: all pairs of a single count, 95 % of several",
    ),
    Column("pixels", 72, lambda t: f"{t.pixels:,}", lambda t: t.pixels, "Of the finished picture"),
    Column("mean", 56, lambda t: f"{t.mean:.2f}", lambda t: t.mean, "Difference of all channels of all pixels, of 255"),
]


class IterationsView(QWidget):
    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self._workspace = workspace
        self._document: Document | None = None
        self._program: ProgramStudy | None = None
        self._tried: dict[tuple[int, int], dict[int, Tried]] = {}
        """(program, line) -> what each count came to."""
        self._curves: Any = None
        self.loop = QComboBox()
        self.loop.setAccessibleName("Loop")
        self.loop.setMinimumWidth(16 * GRID)
        self.iterations = QSlider(Qt.Orientation.Horizontal)
        self.iterations.setAccessibleName("Iterations")
        self.iterations.setMinimumWidth(12 * GRID)
        self.count = Label()
        self.count.setFont(figures_font())
        self.count.setMinimumWidth(8 * GRID)
        self.sweep = QPushButton("Try several")
        self.sweep.setToolTip(f"Up to {_AT_ONCE} counts between one iteration and all")
        self.keep = QPushButton("Measure and keep")
        self.keep.setToolTip("Measure this count like a proof and keep it as a trial")
        self.note = Label()
        self.table: RowsTable[Tried] = RowsTable(
            RowsModel(_COLUMNS, (0, True)),
            "Iterations tried",
            empty="Release the slider, or try several, to fill this table.",
        )
        self._room = QSplitter(Qt.Orientation.Horizontal)
        self._room.addWidget(self.table)
        self._room.setChildrenCollapsible(False)
        lay_out(
            self,
            [self.loop, self.iterations, self.count, self.sweep, self.keep],
            self.note,
            self._room,
            self.iterations,
        )
        self.loop.currentIndexChanged.connect(self._loop_chosen)
        self.iterations.valueChanged.connect(self._moved)
        self.iterations.sliderReleased.connect(lambda: self.attempt(self.iterations.value()))
        self.sweep.clicked.connect(self._sweep)
        self.keep.clicked.connect(self._keep)

    def show_program(self, document: Document | None, program: ProgramStudy | None) -> None:
        if program is self._program:
            return
        if document is not self._document:
            self._tried.clear()
        self._document, self._program = document, program
        self.loop.blockSignals(True)
        self.loop.clear()
        for loop in self._loops:
            self.loop.addItem(
                f"line {loop.line}, {f'{loop.trips:,} iterations' if loop.trips is not None else 'iterations unknown'}",
                loop,
            )
        self.loop.blockSignals(False)
        self._loop_chosen()

    @property
    def _loops(self) -> list[Loop]:
        stage = self._program.stage(Stage.FRAGMENT) if self._program else None
        found = (
            [loop for loop in stage.cost.loops if loop.trips is None or loop.trips > 1] if stage and stage.cost else []
        )
        return sorted(found, key=lambda loop: -loop.cost)

    @property
    def _chosen(self) -> Loop | None:
        found: Loop | None = self.loop.currentData()
        return found

    def _loop_chosen(self) -> None:
        loop = self._chosen
        for widget in (self.loop, self.iterations, self.sweep, self.keep):
            widget.setEnabled(loop is not None)
        most = (loop.trips if loop.trips is not None else _MOST_UNKNOWN) if loop else 1
        self.iterations.blockSignals(True)
        self.iterations.setRange(1, most)
        self.iterations.setValue(most)
        self.iterations.blockSignals(False)
        self.note.setText(
            "This program has no loop in its fragment shader that runs more than once."
            if loop is None and self._program is not None
            else "Release the slider to replay with at most this many iterations; other lines are unchanged."
        )
        self._moved()
        self._refresh()

    def _moved(self) -> None:
        loop = self._chosen
        if loop is not None:
            self.count.setText(f"{self.iterations.value()} of {loop.trips if loop.trips is not None else '?'}")
        else:
            self.count.setText("")

    def _remedy(self, iterations: int) -> Remedy | None:
        loop, program = self._chosen, self._program
        return (
            Remedy("cut-loops", program.steps, program=program.program, loops={loop.line: iterations})
            if loop and program
            else None
        )

    def attempt(self, iterations: int) -> None:
        """Replay the frame with this count: first its picture, then what it saves."""
        remedy, key = self._remedy(iterations), self._key
        if remedy is None:
            return
        self.note.setText("replaying ...")
        self._workspace.jobs.show_changed_picture([remedy], f"line {key[1]}, {iterations} iterations")
        self._workspace.jobs.run_job(
            JobName.ITERATIONS,
            self._measuring([iterations], _QUICK),
            lambda found: self._arrived(key, [iterations], found),
            lambda error: self.note.setText(str(error)),
        )

    def _sweep(self) -> None:
        most, key = self.iterations.maximum(), self._key
        counts = sorted({max(round(1 + (most - 1) * k / (_AT_ONCE - 1)), 1) for k in range(_AT_ONCE)})
        self.note.setText("measuring ...")
        self._workspace.jobs.run_measurement(
            self._measuring(counts, _CAREFUL),
            lambda found: self._arrived(key, counts, found),
            "The iterations could not be measured",
        )

    def _measuring(self, counts: list[int], repeats: int) -> Work[VariantTimes]:
        variants = [[remedy] for iterations in counts if (remedy := self._remedy(iterations))]
        asked = measure_variants.asked(self._program.steps if self._program else [], variants, repeats)
        return lambda replay, task: replay.run(asked, task, LONGEST_SECONDS)

    @property
    def _key(self) -> tuple[int, int]:
        return (self._program.program, self._chosen.line) if self._program and self._chosen else (0, 0)

    def _arrived(self, key: tuple[int, int], counts: list[int], found: VariantTimes) -> None:
        ms = found.ms
        for number, iterations in enumerate(counts):
            if found.refused[number]:
                self.note.setText(found.refused[number])
                return
            saved = median_interval(ms[0] - ms[number + 1])
            made = Tried(
                iterations, float(np.median(ms[number + 1])), saved, found.different[number], found.mean[number]
            )
            self._tried.setdefault(key, {})[iterations] = made
        if key != self._key:
            return
        last = self._tried[key][counts[-1]]
        told = (
            f"{last.iterations} iterations save {last.saved_ms.median:.2f} ms of its draws ({last.saved_ms.low:.2f} to"
            f" {last.saved_ms.high:.2f}); {last.pixels:,} pixels differ, by {last.mean:.2f} of 255 on average."
        )
        self.note.setText(
            told
            if len(counts) == 1
            else f"{len(counts)} counts, measured in turns. Times are of the program's steps alone."
        )
        self._refresh()

    def _refresh(self) -> None:
        tried = self._tried.get(self._key, {})
        rows = [tried[k] for k in sorted(tried)]
        self.table.rows.show_rows(rows)
        if len(rows) > 1:
            self._draw(rows)
        elif self._curves is not None:
            self._curves.hide()

    def _draw(self, rows: list[Tried]) -> None:
        """Two curves over the iterations. The plotting library is loaded when there is something to plot."""
        if self._curves is None:
            from wendascope.desktop.charts.curves import Curves

            self._curves = Curves("iterations")
            self._room.addWidget(self._curves)
            self._room.setSizes([500, 200])
        self._curves.show()
        counts = [float(t.iterations) for t in rows]
        self._curves.show_curves(
            counts,
            ("steps, ms", [t.ms for t in rows], theme().ink),
            ("mean difference, of 255", [t.mean for t in rows], theme().soft),
        )

    def _keep(self) -> None:
        document, program, loop, iterations = self._document, self._program, self._chosen, self.iterations.value()
        remedy = self._remedy(iterations)
        if document is None or program is None or loop is None or remedy is None:
            return
        title = f"{program.title}: {iterations} iterations at line {loop.line}"
        self._workspace.jobs.run_measurement(
            lambda replay, task: attempt(document.path, document.frame, title, [remedy], replay, task=task),
            document.add_attempt,
            "The loop could not be measured",
        )
