"""Lines of a shader, the most expensive first."""

from __future__ import annotations

from dataclasses import dataclass

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QVBoxLayout, QWidget

from wendascope.analysis.shaders.study import ProgramStudy
from wendascope.desktop.widgets.rows_table import Column, RowsModel, RowsTable
from wendascope.desktop.widgets.theme import GRID
from wendascope.texts import share


@dataclass(frozen=True)
class CostLine:
    stage: int
    stage_name: str
    line: int
    cost: float
    share: float
    runs: float
    text: str


_COLUMNS: list[Column[CostLine]] = [
    Column("line", 48, lambda r: f"{r.line}", lambda r: r.line),
    Column(
        "~ cost",
        76,
        lambda r: f"{r.cost:,.0f}",
        lambda r: r.cost,
        "Modelled cost per invocation, loop iterations included (1 = one addition)",
    ),
    Column(
        "share",
        64,
        lambda r: f"{share(r.share)}",
        lambda r: r.share,
        "Of the stage's cost",
        bar=lambda r: r.share,
        measured=lambda _row: False,
    ),
    Column(
        "runs",
        56,
        lambda r: f"x {r.runs:,.0f}",
        lambda r: r.runs,
        "How often one invocation runs it, by loops and calls",
    ),
    Column("stage", 84, lambda r: r.stage_name, right=False),
    Column("source", 0, lambda r: r.text, right=False),
]


class LinesView(QWidget):
    line_chosen = Signal(int, int)
    """(stage, line)"""

    def __init__(self) -> None:
        super().__init__()
        self.table: RowsTable[CostLine] = RowsTable(RowsModel(_COLUMNS, (1, True)), "Most expensive lines")
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, GRID // 2, 0, 0)
        layout.addWidget(self.table)
        self.table.doubleClicked.connect(lambda _index: self._go())
        self.table.activated.connect(lambda _index: self._go())

    def show_program(self, program: ProgramStudy | None) -> None:
        rows = []
        for stage in program.stages if program else []:
            if stage.cost is None:
                continue
            lines = stage.source.splitlines()
            for line, cost in stage.cost.lines.items():
                if line < 1 or cost < 0.5:
                    continue
                text = lines[line - 1].strip() if line <= len(lines) else ""
                rows.append(
                    CostLine(
                        stage.stage,
                        stage.name,
                        line,
                        cost,
                        cost / max(stage.cost.total, 1e-9),
                        stage.cost.runs.get(line, 1.0),
                        text,
                    )
                )
        self.table.rows.show_rows(rows)

    def _go(self) -> None:
        row = self.table.chosen
        if row is not None:
            self.line_chosen.emit(row.stage, row.line)
