"""What limits a program or a step: experiments, what each saves, and its picture."""

from __future__ import annotations

from PySide6.QtWidgets import QComboBox, QPushButton, QWidget

from wendascope.analysis.shaders.study import ProgramStudy
from wendascope.desktop.models.document import Document, Workspace
from wendascope.desktop.widgets.answer import lay_out
from wendascope.desktop.widgets.plain import Label
from wendascope.desktop.widgets.rows_table import Column, RowsModel, RowsTable
from wendascope.texts import share
from wendascope.trials.experiments.limits import Experiment, Limits, find_limits

_COLUMNS: list[Column[Experiment]] = [
    Column("experiment", 0, lambda e: e.title, right=False),
    Column(
        "saved, ms",
        88,
        lambda e: "" if e.saved_ms is None else f"{e.saved_ms.median:.2f}",
        lambda e: e.saved_ms.median if e.saved_ms else None,
        "Measured: original minus changed, paired runs",
    ),
    Column(
        "interval",
        128,
        lambda e: "" if e.saved_ms is None else f"{e.saved_ms.low:.2f} to {e.saved_ms.high:.2f}",
        tip="95 % confidence interval of the median",
    ),
    Column(
        "share",
        72,
        lambda e: "" if e.share is None else f"{share(e.share)}",
        lambda e: e.share,
        "Share of the time saved by leaving its draws out",
        bar=lambda e: e.share or 0.0,
    ),
    Column(
        "pixels differ",
        104,
        lambda e: "" if e.saved_ms is None else f"{e.pixels_different:,}",
        lambda e: e.pixels_different,
        "Of the finished picture",
    ),
    Column(
        "by up to",
        80,
        lambda e: "" if e.saved_ms is None else f"{e.max_difference}",
        lambda e: e.max_difference,
        "Of 255",
    ),
]
_PROGRAM, _STEP = "the whole program", "the selected step"


class LimitsView(QWidget):
    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self._workspace = workspace
        self._document: Document | None = None
        self._program: ProgramStudy | None = None
        self._shown: Limits | None = None
        self.scope = QComboBox()
        self.scope.addItems([_PROGRAM, _STEP])
        self.scope.setAccessibleName("What to look at")
        self.run = QPushButton("Find what limits it")
        self.run.setToolTip(
            "Replay the frame with a tiny viewport, flat colour, one-texel textures and more, all in turns"
        )
        self.picture = QPushButton("Show its picture")
        self.picture.setToolTip("The finished picture with the chosen experiment, and where it differs")
        self.answer = Label()
        self.table: RowsTable[Experiment] = RowsTable(
            RowsModel(_COLUMNS), "Experiments", empty="Press the button above to try what limits the shader."
        )
        self.table.rows.soft = lambda e: e.saved_ms is None
        self.table.rows.tip = lambda e: e.refused
        lay_out(self, [self.run, Label("of"), self.scope, self.picture], self.answer, self.table)
        self.run.clicked.connect(self._run)
        self.picture.clicked.connect(self._show_picture)
        self.scope.currentIndexChanged.connect(lambda: self.refresh())
        self.table.chosen_changed.connect(lambda item: self._tell(item))

    def show_program(self, document: Document | None, program: ProgramStudy | None) -> None:
        if document is not self._document and document is not None:
            document.selection.listen(lambda: self.refresh() if self.scope.currentText() == _STEP else None)
        self._document, self._program = document, program
        self.refresh()

    @property
    def _steps(self) -> list[int] | None:
        """The step to look at; None for the whole program, empty where the selected step is not one of its."""
        if self.scope.currentText() == _PROGRAM or self._document is None or self._program is None:
            return None
        step = self._document.selection.step
        return [step] if step in self._program.steps else []

    def refresh(self) -> None:
        """Show what the file holds of the shown program or step."""
        document, program, steps = self._document, self._program, self._steps
        self._shown = (
            document.limits.get((program.program, *(steps or []))) if document and program and steps != [] else None
        )
        self.table.rows.show_rows(self._shown.experiments if self._shown else [])
        self._tell(None)

    def _tell(self, item: Experiment | None) -> None:
        self.run.setEnabled(self._program is not None and self._steps != [])
        self.picture.setEnabled(item is not None and item.saved_ms is not None)
        if self._program is None:
            self.answer.setText("")
        elif self._steps == []:
            self.answer.setText("Select a draw of this program.")
        elif self._shown is None:
            self.answer.setText(
                "Not looked at yet. Every experiment is a change of the replayed frame, measured against the original"
                " in turns."
            )
        else:
            more = (
                f"\n{item.title[:1].upper()}{item.title[1:]}: {item.refused}."
                if item is not None and item.refused
                else ""
            )
            self.answer.setText(self._shown.answer + more)

    def _run(self) -> None:
        document, program, steps = self._document, self._program, self._steps
        if document is None or program is None or steps == []:
            return
        self._workspace.jobs.run_measurement(
            lambda replay, task: find_limits(document.path, program, replay, steps, task=task),
            lambda found: self._found(document, found),
            "The experiments could not be run",
        )

    def _found(self, document: Document, found: Limits) -> None:
        document.add_limits(found)
        self.refresh()

    def _show_picture(self) -> None:
        item = self.table.chosen
        if item is not None:
            self._workspace.jobs.show_changed_picture(item.remedies, item.title)
