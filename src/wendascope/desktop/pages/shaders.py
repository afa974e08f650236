"""The Shaders page: which programs cost, what in their source does, and what a change of it brings."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import msgspec
from PySide6.QtCore import QAbstractTableModel, QModelIndex, QPersistentModelIndex, QSettings, Qt
from PySide6.QtGui import QKeySequence
from PySide6.QtWidgets import QAbstractItemView, QComboBox, QHBoxLayout, QHeaderView, QLabel, QPushButton, QTableView, QVBoxLayout, QWidget

from wendascope.analysis.findings import EditedSource, Finding, Remedy
from wendascope.analysis.shaders import ProgramStudy, StageStudy, shaders_answer
from wendascope.desktop.copying import CopiesText
from wendascope.desktop.findings_view import FindingsView
from wendascope.desktop.model import Document, Workspace
from wendascope.desktop.pages._following import FramePage
from wendascope.desktop.pages._registry import page
from wendascope.desktop.shader_editor import ShaderEditor
from wendascope.desktop.theme import GRID, figures_font
from wendascope.frame.glsl_compiler import CompileError, compile_glsl

_LONGEST_SECONDS = 60.0
"""A replay of an edited frame that takes longer is stopped: its shader may never end."""
Index = QModelIndex | QPersistentModelIndex
Value = float | str | None
_COLUMNS: list[tuple[str, int, str, Callable[[ProgramStudy], Value], str]] = [
    ("ms", 60, "Measured: its steps, each with its part of its pass", lambda p: p.ms, "{:.1f}"),
    ("steps", 48, "Steps that draw with it", lambda p: float(len(p.steps)), "{:,.0f}"),
    ("fragments", 84, "Counted: fragments that passed all tests", lambda p: None if p.fragments is None else float(p.fragments), "{:,.0f}"),
    ("vertices", 74, "Counted by the driver: vertex shaders run; submitted vertices where it does not count", lambda p: float(p.vertices if p.vertices_run is None else p.vertices_run), "{:,.0f}"),
    ("~ fragment", 84, "Modelled: cost of one fragment; 1 is an addition", lambda p: p.fragment_cost, "{:,.0f}"),
    ("~ vertex", 66, "Modelled: cost of one vertex", lambda p: p.vertex_cost, "{:,.0f}"),
    ("look-ups", 68, "Modelled: texture look-ups of one fragment", lambda p: _fetches(p), "{:,.0f}"),
    ("registers", 70, "Registers of four numbers that hand values from vertices to fragments", lambda p: float(p.registers), "{:,.0f}"),
    ("family", 56, "Programs that differ only in constants and defines", lambda p: float(p.family), "{:.0f}"),
]


def _fetches(program: ProgramStudy) -> float | None:
    found = next((s for s in program.stages if s.name == "fragment"), None)
    return found.cost.fetches if found and found.cost else None


class _ProgramsModel(QAbstractTableModel):
    def __init__(self) -> None:
        super().__init__()
        self.programs: list[ProgramStudy] = []
        self._sort = (1, True)

    def show_programs(self, programs: list[ProgramStudy]) -> None:
        self.beginResetModel()
        self.programs = list(programs)
        self._order()
        self.endResetModel()

    def _order(self) -> None:
        column, descending = self._sort
        if column == 0:
            self.programs.sort(key=lambda p: p.label, reverse=descending)
        else:
            self.programs.sort(key=lambda p: -1.0 if (v := _COLUMNS[column - 1][3](p)) is None else float(v), reverse=descending)

    def sort(self, column: int, order: Qt.SortOrder = Qt.SortOrder.AscendingOrder) -> None:
        self.beginResetModel()
        self._sort = (column, order == Qt.SortOrder.DescendingOrder)
        self._order()
        self.endResetModel()

    def rowCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        return 0 if parent.isValid() else len(self.programs)

    def columnCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        return 1 + len(_COLUMNS)

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if orientation != Qt.Orientation.Horizontal:
            return None
        if role == Qt.ItemDataRole.DisplayRole:
            mark = (" ↓" if self._sort[1] else " ↑") if section == self._sort[0] else ""
            return ("name" if section == 0 else _COLUMNS[section - 1][0]) + mark
        if role == Qt.ItemDataRole.TextAlignmentRole:
            return Qt.AlignmentFlag.AlignVCenter | (Qt.AlignmentFlag.AlignRight if section else Qt.AlignmentFlag.AlignLeft)
        return _COLUMNS[section - 1][2] if role == Qt.ItemDataRole.ToolTipRole and section else None

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if role == Qt.ItemDataRole.DisplayRole:
            return self.text(index.row(), index.column())
        if role == Qt.ItemDataRole.TextAlignmentRole and index.column():
            return Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        return None

    def text(self, row: int, column: int) -> str:
        program = self.programs[row]
        if column == 0:
            return program.label.removeprefix("program ")
        value = _COLUMNS[column - 1][3](program)
        return "" if value is None else _COLUMNS[column - 1][4].format(value)


class _ProgramsTable(CopiesText, QTableView):
    def __init__(self, model: _ProgramsModel) -> None:
        super().__init__()
        self.programs = model
        self.setModel(model)
        self.setFont(figures_font())
        self.setShowGrid(False)
        self.setSortingEnabled(True)
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.setAccessibleName("Programs")
        self.verticalHeader().hide()
        self.verticalHeader().setDefaultSectionSize(3 * GRID)
        header = self.horizontalHeader()
        header.setSortIndicatorShown(False)
        header.setHighlightSections(False)
        header.setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        for column, (_, width, *_rest) in enumerate(_COLUMNS, 1):
            header.resizeSection(column, width)
        self.sortByColumn(1, Qt.SortOrder.DescendingOrder)

    def as_text(self) -> str:
        model = self.programs
        rows = [i.row() for i in self.selectionModel().selectedRows()] or range(model.rowCount())
        lines = ["\t".join(["name", *(c[0] for c in _COLUMNS)])]
        lines += ["\t".join(model.text(row, column) for column in range(model.columnCount())) for row in rows]
        return "\n".join(lines)


class _SourceView(QWidget):
    """The stages of a program, one at a time, to be edited and tried."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self._workspace = workspace
        self._document: Document | None = None
        self._program: ProgramStudy | None = None
        self._edited: dict[int, str] = {}
        """Stage -> source, where it was changed."""
        self._stage = 0
        self.stage = QComboBox()
        self.stage.setAccessibleName("Stage")
        self.stage.setMinimumWidth(19 * GRID)
        self.attempt = QPushButton("Try")
        self.attempt.setToolTip("Replay the frame with this source: picture and time beside the original (Ctrl+Return)")
        self.attempt.setShortcut(QKeySequence("Ctrl+Return"))
        self.revert = QPushButton("Revert")
        self.revert.setToolTip("Back to the captured source of this stage")
        self.note = QLabel()
        self.note.setWordWrap(True)
        self.note.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.editor = ShaderEditor()
        row = QHBoxLayout()
        for widget in (self.stage, self.attempt, self.revert):
            row.addWidget(widget)
        row.addWidget(self.note, 1)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, GRID // 2, 0, 0)
        layout.setSpacing(GRID // 2)
        layout.addLayout(row)
        layout.addWidget(self.editor, 1)
        self.stage.currentIndexChanged.connect(self._stage_chosen)
        self.editor.textChanged.connect(self._typed)
        self.attempt.clicked.connect(self._try)
        self.revert.clicked.connect(self._revert)

    def show_program(self, document: Document | None, program: ProgramStudy | None) -> None:
        if program is self._program:
            return
        self._document, self._program = document, program
        self._edited = {}
        self.stage.blockSignals(True)
        self.stage.clear()
        for stage in sorted(program.stages, key=lambda s: s.name != "fragment") if program else []:
            self.stage.addItem(f"{stage.name} shader", stage.stage)
        self.stage.blockSignals(False)
        self._stage_chosen()

    def show_lines(self, stage: int, lines: list[int]) -> None:
        self.stage.setCurrentIndex(max(self.stage.findData(stage), 0))
        self.editor.mark(lines)

    @property
    def _shown(self) -> StageStudy | None:
        return next((s for s in self._program.stages if s.stage == self._stage), None) if self._program else None

    def _stage_chosen(self) -> None:
        self._stage = self.stage.currentData() or 0
        shown = self._shown
        self.editor.blockSignals(True)
        text = "" if shown is None else self._edited.get(self._stage, shown.source)
        self.editor.show_source(text, shown.cost.lines if shown and shown.cost and self._stage not in self._edited else {})
        self.editor.blockSignals(False)
        self.editor.setReadOnly(shown is None or not shown.source)
        self._tell()

    def _typed(self) -> None:
        shown = self._shown
        if shown is None:
            return
        text = self.editor.toPlainText()
        if text == shown.source:
            self._edited.pop(self._stage, None)
        else:
            self._edited[self._stage] = text
        self._tell()

    def _tell(self, text: str = "") -> None:
        shown = self._shown
        self.attempt.setEnabled(bool(self._edited))
        self.revert.setEnabled(self._stage in self._edited)
        if text or shown is None:
            self.note.setText(text)
        elif shown.error:
            self.note.setText(f"Not understood: {shown.error}")
        elif self._edited:
            self.note.setText("Edited. Costs beside the lines are those of the captured source.")
        elif shown.cost is not None:
            least = "" if shown.cost.certain else "at least, for the rounds of a loop are not known; "
            self.note.setText(f"~ {shown.cost.total:,.0f} a {'fragment' if shown.name == 'fragment' else 'vertex' if shown.name == 'vertex' else 'invocation'}, {least}modelled, by line.")

    def _revert(self) -> None:
        self._edited.pop(self._stage, None)
        self._stage_chosen()

    def _try(self) -> None:
        program, document = self._program, self._document
        if program is None or document is None or not self._edited:
            return
        for stage, text in self._edited.items():
            try:
                compile_glsl(text, stage, document.frame.context.es)
            except CompileError as error:
                self.stage.setCurrentIndex(max(self.stage.findData(stage), 0))
                self.editor.show_errors({line: text for line, text in error.errors if line})
                self._tell(f"Does not compile: {error}")
                return
        self.editor.show_errors({})
        remedy = Remedy("edit-shader", program.steps, program=program.program, sources=[EditedSource(stage, text) for stage, text in self._edited.items()])
        remedies = msgspec.to_builtins([remedy])
        self._tell("replaying ...")
        self._workspace.request_job(
            "shader edit",
            lambda replay, progress, cancelled: replay.run("trials.runs", "edited_picture", progress, cancelled, _LONGEST_SECONDS, remedies=remedies),
            lambda found: self._tried(program, found),
            lambda error: self._tell(error),
        )

    def _tried(self, program: ProgramStudy, found: dict[str, Any]) -> None:
        if program is not self._program:
            return
        different = int(found["different"].sum())
        picture = "picture identical" if not different else f"{different:,} pixels differ"
        self._tell(f"{found['frame_ms']:.1f} -> {found['edited_ms']:.1f} ms a frame, run once each; {picture}.")
        self._workspace.request_shown_picture(found, f"{program.label} edited")


@page("Shaders", 60)
class ShadersPage(FramePage):
    """Answer sentence, the table of programs, then the source with costs, and findings."""

    def __init__(self, workspace: Workspace, _settings: QSettings) -> None:
        super().__init__(workspace, "Which shaders cost, and what in them does?")
        self.programs = _ProgramsModel()
        self.table = _ProgramsTable(self.programs)
        self.source = _SourceView(workspace)
        self.findings = FindingsView(workspace, "Shaders")
        self.tabs = self.split(self.table, [("Source", self.source), ("Findings", self.findings)])
        self.table.selectionModel().currentRowChanged.connect(lambda *_: self._chosen())
        self.findings.chosen_changed.connect(self._finding_chosen)
        self._shown: tuple[object, ...] = ()
        self._studied: list[ProgramStudy] = []
        self.follow()

    def figure(self) -> str:
        document = self._workspace.current
        if document is None or document.survey is None or not self._studied or document is not self._document:
            return ""
        total = sum(p.ms or 0.0 for p in self._studied)
        return f"{(self._studied[0].ms or 0.0) / total:.0%}" if total else ""

    def refresh(self, document: Document | None) -> None:
        self.findings.show_document(document)
        if document is None:
            self.say("")
            return
        structure = document.structure
        key = (document, structure, document.survey, document.drawn)
        if key == self._shown:
            return
        self._shown = key
        if structure is None:
            self.say("Looking at the shaders ...")
            return
        case = document.case
        self._workspace.request_job("shaders", lambda _replay, _progress, _cancelled: case.study_shaders(), lambda found: self._arrived(document, found), self.say)

    def _arrived(self, document: Document, found: list[ProgramStudy]) -> None:
        if document is not self._workspace.current:
            return
        self._studied = found
        self.programs.show_programs(found)
        if found:
            self.table.selectRow(0)
        self.say(*shaders_answer(found))
        document.changed()  # the rail has its figure now

    def _chosen(self) -> None:
        row = self.table.currentIndex().row()
        program = self.programs.programs[row] if 0 <= row < len(self.programs.programs) else None
        self.source.show_program(self._document, program)
        if program is not None and self._document is not None and self.isVisible():
            step = self._document.selection.step
            if step is None or step not in program.steps:
                self._document.selection.choose(program.steps[-1])

    def _finding_chosen(self, finding: Finding | None) -> None:
        if finding is None or not finding.program:
            return
        for row, program in enumerate(self.programs.programs):
            if program.program == finding.program:
                self.table.selectRow(row)
                self.source.show_lines(finding.stage, finding.lines)


