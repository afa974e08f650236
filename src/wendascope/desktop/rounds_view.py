"""Loops cut short: a slider for the rounds, and time and picture difference against their count."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import msgspec
import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QComboBox, QLabel, QPushButton, QSlider, QSplitter, QWidget

from wendascope.analysis.findings import Remedy
from wendascope.analysis.shader_cost import Loop
from wendascope.analysis.shaders import ProgramStudy
from wendascope.desktop.answer import lay_out
from wendascope.desktop.jobs import Work
from wendascope.desktop.model import Document, Workspace
from wendascope.desktop.rows_table import Column, RowsModel, RowsTable
from wendascope.desktop.source_view import LONGEST_SECONDS
from wendascope.desktop.theme import GRID, figures_font, theme
from wendascope.measure.statistics import Interval, median_interval
from wendascope.registry import GL
from wendascope.trials.log import attempt

_MOST_UNKNOWN = 64
"""The most rounds that can be asked for where nobody knows how many there are."""
_AT_ONCE = 6
_QUICK, _CAREFUL = 3, 6
"""Repeats of a single count, and of several."""


@dataclass(frozen=True)
class Tried:
    """One count of rounds. Times are of the program's steps."""

    rounds: int
    ms: float
    saved_ms: Interval
    """Of pairs, 95 % where there are enough of them, else all."""
    pixels: int
    mean: float


_COLUMNS: list[Column[Tried]] = [
    Column("rounds", 70, lambda t: f"{t.rounds:,}", lambda t: t.rounds),
    Column("steps, ms", 74, lambda t: f"{t.ms:.2f}", lambda t: t.ms, "Measured: its steps with so many rounds, median"),
    Column("saved, ms", 78, lambda t: f"{t.saved_ms.median:.2f}", lambda t: t.saved_ms.median, "Measured: original less changed, median of pairs"),
    Column("interval", 0, lambda t: f"{t.saved_ms.low:.2f} to {t.saved_ms.high:.2f}", tip="Of what is saved: all pairs of a single count, 95 % of several"),
    Column("pixels", 72, lambda t: f"{t.pixels:,}", lambda t: t.pixels, "Of the finished picture"),
    Column("mean", 56, lambda t: f"{t.mean:.2f}", lambda t: t.mean, "Difference of all channels of all pixels, of 255"),
]


class RoundsView(QWidget):
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
        self.rounds = QSlider(Qt.Orientation.Horizontal)
        self.rounds.setAccessibleName("Rounds")
        self.rounds.setMinimumWidth(12 * GRID)
        self.count = QLabel()
        self.count.setFont(figures_font())
        self.count.setMinimumWidth(8 * GRID)
        self.sweep = QPushButton("Try several")
        self.sweep.setToolTip(f"Up to {_AT_ONCE} counts between one round and all")
        self.keep = QPushButton("Measure and keep")
        self.keep.setToolTip("Measure this count like a proof and keep it as a trial")
        self.note = QLabel()
        self.table: RowsTable[Tried] = RowsTable(RowsModel(_COLUMNS, (0, True)), "Rounds that were tried")
        self._room = QSplitter(Qt.Orientation.Horizontal)
        self._room.addWidget(self.table)
        self._room.setChildrenCollapsible(False)
        lay_out(self, [self.loop, self.rounds, self.count, self.sweep, self.keep], self.note, self._room, self.rounds)
        self.loop.currentIndexChanged.connect(self._loop_chosen)
        self.rounds.valueChanged.connect(self._moved)
        self.rounds.sliderReleased.connect(lambda: self.attempt(self.rounds.value()))
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
            self.loop.addItem(f"line {loop.line}, {f'{loop.trips:,} rounds' if loop.trips is not None else 'rounds not known'}", loop)
        self.loop.blockSignals(False)
        self._loop_chosen()

    @property
    def _loops(self) -> list[Loop]:
        stage = self._program.stage(GL.FRAGMENT_SHADER) if self._program else None
        found = [loop for loop in stage.cost.loops if loop.trips is None or loop.trips > 1] if stage and stage.cost else []
        return sorted(found, key=lambda loop: -loop.cost)

    @property
    def _chosen(self) -> Loop | None:
        found: Loop | None = self.loop.currentData()
        return found

    def _loop_chosen(self) -> None:
        loop = self._chosen
        for widget in (self.loop, self.rounds, self.sweep, self.keep):
            widget.setEnabled(loop is not None)
        most = (loop.trips if loop.trips is not None else _MOST_UNKNOWN) if loop else 1
        self.rounds.blockSignals(True)
        self.rounds.setRange(1, most)
        self.rounds.setValue(most)
        self.rounds.blockSignals(False)
        self.note.setText(
            "This program has no loop in its fragment shader that runs more than once." if loop is None and self._program is not None
            else "Let the slider go to replay the frame with so many rounds at most; other lines stay as they are."
        )  # fmt: skip
        self._moved()
        self._refresh()

    def _moved(self) -> None:
        loop = self._chosen
        if loop is not None:
            self.count.setText(f"{self.rounds.value()} of {loop.trips if loop.trips is not None else '?'}")
        else:
            self.count.setText("")

    def _remedy(self, rounds: int) -> Remedy | None:
        loop, program = self._chosen, self._program
        return Remedy("cut-loops", program.steps, program=program.program, loops={loop.line: rounds}) if loop and program else None

    def attempt(self, rounds: int) -> None:
        """Replay the frame with this count: first its picture, then what it saves."""
        remedy, key = self._remedy(rounds), self._key
        if remedy is None:
            return
        self.note.setText("replaying ...")
        self._workspace.request_changed_picture([remedy], f"line {key[1]}, {rounds} rounds")
        self._workspace.request_job("rounds", self._measuring([rounds], _QUICK), lambda found: self._arrived(key, [rounds], found), self.note.setText)

    def _sweep(self) -> None:
        most, key = self.rounds.maximum(), self._key
        counts = sorted({max(round(1 + (most - 1) * k / (_AT_ONCE - 1)), 1) for k in range(_AT_ONCE)})
        self.note.setText("measuring ...")
        self._workspace.request_measurement(self._measuring(counts, _CAREFUL), lambda found: self._arrived(key, counts, found), "The rounds could not be measured")

    def _measuring(self, counts: list[int], repeats: int) -> Work:
        remedies = [[remedy] for rounds in counts if (remedy := self._remedy(rounds))]
        variants, steps = msgspec.to_builtins(remedies), self._program.steps if self._program else []
        return lambda replay, progress, cancelled: replay.run(
            "trials.limit_runs", "measure_variants", progress, cancelled, LONGEST_SECONDS, steps=steps, variants=variants, repeats=repeats
        )

    @property
    def _key(self) -> tuple[int, int]:
        return (self._program.program, self._chosen.line) if self._program and self._chosen else (0, 0)

    def _arrived(self, key: tuple[int, int], counts: list[int], found: dict[str, Any]) -> None:
        ms = np.asarray(found["ms"])
        for number, rounds in enumerate(counts):
            if found["refused"][number]:
                self.note.setText(found["refused"][number])
                return
            saved = median_interval(ms[0] - ms[number + 1])
            made = Tried(rounds, float(np.median(ms[number + 1])), saved, found["different"][number], found["mean"][number])
            self._tried.setdefault(key, {})[rounds] = made
        if key != self._key:
            return
        last = self._tried[key][counts[-1]]
        told = f"{last.rounds} rounds save {last.saved_ms.median:.2f} ms of its steps ({last.saved_ms.low:.2f} to {last.saved_ms.high:.2f}); {last.pixels:,} pixels differ, by {last.mean:.2f} of 255 on average."
        self.note.setText(told if len(counts) == 1 else f"{len(counts)} counts, measured in turns. Times are of the program's steps alone.")
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
        """Two curves over the rounds. The plotting library is loaded when there is something to plot."""
        if self._curves is None:
            from wendascope.desktop.curves import Curves

            self._curves = Curves("rounds")
            self._room.addWidget(self._curves)
            self._room.setSizes([500, 200])
        self._curves.show()
        counts = [float(t.rounds) for t in rows]
        self._curves.show_curves(
            counts, ("steps, ms", [t.ms for t in rows], theme().ink), ("mean difference, of 255", [t.mean for t in rows], theme().soft)
        )

    def _keep(self) -> None:
        document, program, loop, rounds = self._document, self._program, self._chosen, self.rounds.value()
        remedy = self._remedy(rounds)
        if document is None or program is None or loop is None or remedy is None:
            return
        title = f"{program.title}: {rounds} rounds at line {loop.line}"
        self._workspace.request_measurement(
            lambda replay, progress, cancelled: attempt(document.path, document.frame, title, [remedy], replay, progress=progress, cancelled=cancelled),
            document.add_attempt,
            "The loop could not be measured",
        )
