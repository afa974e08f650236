"""The stages of a program, one at a time: source with cost beside the lines, to be edited, tried and kept."""

from __future__ import annotations

from PySide6.QtGui import QKeySequence
from PySide6.QtWidgets import QComboBox, QInputDialog, QPushButton, QWidget

from wendascope.analysis.shaders.study import ProgramStudy, StageStudy
from wendascope.desktop.models.commands import JobName
from wendascope.desktop.models.document import Document, Workspace
from wendascope.desktop.views.shader_editor import Outline, ShaderEditor
from wendascope.desktop.widgets.answer import lay_out
from wendascope.desktop.widgets.plain import Label
from wendascope.desktop.widgets.theme import GRID
from wendascope.frame.remedy import EditedSource, Remedy
from wendascope.glsl.compiler import CompileError, compile_glsl
from wendascope.texts import plural, verb
from wendascope.trials.experiments.log import Attempt, attempt
from wendascope.trials.proofs.runs import Edited, edited_picture

LONGEST_SECONDS = 60.0
"""A replay of an edited frame that takes longer is stopped: its shader may never end."""


def outlines(stage: StageStudy) -> list[Outline]:
    """What loops and branches multiply their lines by."""
    if stage.cost is None:
        return []
    found = [
        Outline(loop.line, loop.last_line, f"x {loop.trips:,}" if loop.trips is not None else "x ?")
        for loop in stage.cost.loops
    ]
    return found + [Outline(branch.line, branch.last_line, "never") for branch in stage.cost.branches]


def lines_left_out(stage: StageStudy) -> frozenset[int]:
    """Lines that no condition of the preprocessor lets through, as far as they have anything on them."""
    if stage.code is None:
        return frozenset()
    texts = stage.source.splitlines()
    plain = stage.code.text.splitlines()
    return frozenset(
        k
        for k, (text, kept) in enumerate(zip(texts, plain, strict=False), 1)
        if text.strip() and not kept.strip() and not stage.code.compiled[k - 1]
    )


class SourceView(QWidget):
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
        self.keep = QPushButton("Measure and keep ...")
        self.keep.setToolTip("Measure it like a proof and keep it as a trial, with a note")
        self.revert = QPushButton("Revert")
        self.revert.setToolTip("Back to the captured source of this stage")
        self.note = Label()
        self.editor = ShaderEditor()
        lay_out(self, [self.stage, self.attempt, self.keep, self.revert], self.note, self.editor)
        self.stage.currentIndexChanged.connect(self._stage_chosen)
        self.editor.textChanged.connect(self._typed)
        self.attempt.clicked.connect(self._try)
        self.keep.clicked.connect(self._ask_note)
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
    def shown(self) -> StageStudy | None:
        return next((s for s in self._program.stages if s.stage == self._stage), None) if self._program else None

    def _stage_chosen(self) -> None:
        self._stage = self.stage.currentData() or 0
        shown = self.shown
        captured = shown is not None and self._stage not in self._edited
        self.editor.blockSignals(True)
        text = "" if shown is None else self._edited.get(self._stage, shown.source)
        self.editor.show_source(
            text,
            shown.cost.lines if shown and shown.cost and captured else {},
            outlines(shown) if shown and captured else [],
            lines_left_out(shown) if shown and captured else frozenset(),
        )
        self.editor.blockSignals(False)
        self.editor.setReadOnly(shown is None or not shown.source)
        if shown and shown.cost and shown.cost.lines and captured:
            self.editor.go_to(max(shown.cost.lines, key=lambda line: shown.cost.lines[line] if shown.cost else 0.0))
        self._tell()

    def _typed(self) -> None:
        shown = self.shown
        if shown is None:
            return
        text = self.editor.toPlainText()
        if text == shown.source:
            self._edited.pop(self._stage, None)
        else:
            self._edited[self._stage] = text
        self._tell()

    def _tell(self, text: str = "") -> None:
        shown = self.shown
        self.attempt.setEnabled(bool(self._edited))
        self.keep.setEnabled(bool(self._edited))
        self.revert.setEnabled(self._stage in self._edited)
        if text or shown is None:
            self.note.setText(text)
        elif shown.error:
            self.note.setText(f"Not understood: {shown.error}")
        elif self._edited:
            self.note.setText("Edited. Costs beside the lines are those of the captured source.")
        elif shown.cost is not None:
            least = "" if shown.cost.certain else "at least: the iterations of a loop are unknown; "
            unit = {"fragment": "per fragment", "vertex": "per vertex"}.get(shown.name, "an invocation")
            left_out = len(lines_left_out(shown))
            faint = f" {plural(left_out, 'faint line')} {verb(left_out, 'is', 'are')} not compiled." if left_out else ""
            self.note.setText(f"~ {shown.cost.total:,.0f} {unit}, {least}modelled, by line.{faint}")

    def _revert(self) -> None:
        self._edited.pop(self._stage, None)
        self._stage_chosen()

    def _remedy(self) -> Remedy | None:
        """The edit, once it compiles; else its errors are shown."""
        program, document = self._program, self._document
        if program is None or document is None or not self._edited:
            return None
        for stage, text in self._edited.items():
            try:
                compile_glsl(text, stage, document.frame.context.dialect)
            except CompileError as error:
                self.stage.setCurrentIndex(max(self.stage.findData(stage), 0))
                self.editor.show_errors({line: text for line, text in error.errors if line})
                self._tell(f"Does not compile: {error}")
                return None
        self.editor.show_errors({})
        return Remedy(
            "edit-shader",
            program.steps,
            program=program.program,
            sources=[EditedSource(stage, text) for stage, text in self._edited.items()],
        )

    def _try(self) -> None:
        remedy, program = self._remedy(), self._program
        if remedy is None or program is None:
            return
        passes = sorted({int(p) for p in self._document.frame.passes.of_step[program.steps]}) if self._document else []
        self._tell("replaying ...")
        self._workspace.jobs.run_job(
            JobName.SHADER_EDIT,
            lambda replay, task: replay.run(edited_picture.asked([remedy], passes), task, LONGEST_SECONDS),
            lambda found: self._tried(program, found),
            lambda error: self._tell(str(error)),
        )

    def _tried(self, program: ProgramStudy, found: Edited) -> None:
        if program is not self._program:
            return
        different = int(found.different.sum())
        picture = "picture identical" if not different else f"{different:,} pixels differ"
        self._tell(
            f"{found.ms:.1f} -> {found.edited_ms:.1f} ms measured once from its first to its last pass; {picture}."
        )
        self._workspace.jobs.show_difference(found, f"{program.title} edited")

    def _ask_note(self) -> None:
        note, wanted = QInputDialog.getText(
            self, "Keep as a trial", "A note to keep with it, such as what was changed and why:"
        )
        if wanted:
            self.keep_as_trial(note)

    def keep_as_trial(self, note: str) -> None:
        """Measure the edit in the background and keep it in the file."""
        remedy, program, document = self._remedy(), self._program, self._document
        if remedy is None or program is None or document is None:
            return
        title = f"{program.title} edited"
        self._tell("measuring ...")
        self._workspace.jobs.run_measurement(
            lambda replay, task: attempt(document.path, document.frame, title, [remedy], replay, note, task=task),
            lambda made: self._kept(document, made),
            "The edit could not be measured",
        )

    def _kept(self, document: Document, made: Attempt) -> None:
        document.add_attempt(made)
        self._tell(
            f"{made.proof.told_verdict[:1].upper()}{made.proof.told_verdict[1:]}: {made.proof.summary}. It is among the"
            " trials."
        )
