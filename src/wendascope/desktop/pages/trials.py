"""The Trials page: everything that was tried on this frame, to keep or drop; kept ones are measured as one edited
frame.
"""

from __future__ import annotations

from collections import Counter
from html import escape
from pathlib import Path

from PySide6.QtCore import QSettings, Qt
from PySide6.QtGui import QKeySequence, QShortcut
from PySide6.QtWidgets import QComboBox, QFileDialog, QHBoxLayout, QInputDialog, QPushButton, QSplitter

from wendascope.desktop.models.commands import JobName
from wendascope.desktop.models.document import Document, Workspace
from wendascope.desktop.pages._following import FramePage
from wendascope.desktop.pages._registry import page
from wendascope.desktop.widgets.answer import details_label, labelled
from wendascope.desktop.widgets.rows_table import Column, RowsModel, RowsTable
from wendascope.errors import WendascopeError
from wendascope.report.trials import write_trials
from wendascope.texts import capital, plural
from wendascope.trials.experiments.log import (
    DROPPED,
    EDIT,
    EXPERIMENT,
    KEPT,
    PROOF,
    UNDECIDED,
    Trial,
    kept_of,
    measure_kept,
)
from wendascope.trials.proofs.verdicts import Verdict

_COLUMNS: list[Column[Trial]] = [
    Column(
        "kept",
        64,
        lambda t: {KEPT: "kept", DROPPED: "dropped"}.get(t.state, ""),
        lambda t: {KEPT: 0, UNDECIDED: 1, DROPPED: 2}[t.state],
        right=False,
    ),
    Column(
        "saved, ms",
        88,
        lambda t: "" if t.saved_ms is None else f"{t.saved_ms.median:.2f}",
        lambda t: t.saved_ms.median if t.saved_ms else None,
        "Measured, of the passes touched; of an experiment, of its steps",
    ),
    Column("what", 0, lambda t: t.title, right=False),
    Column("verdict", 196, lambda t: t.verdict, right=False),
    Column(
        "pixels",
        72,
        lambda t: "" if t.verdict == Verdict.REFUSED else f"{t.pixels_different:,}",
        lambda t: t.pixels_different,
        "Of the finished picture, that differ",
    ),
    Column("note", 72, lambda t: t.note, right=False),
]
_SHOWN = {
    "all trials": None,
    "kept": KEPT,
    "not dropped": "",
    "proofs": PROOF,
    "edits": EDIT,
    "experiments": EXPERIMENT,
}


@page("Trials", 72)
class TrialsPage(FramePage):
    guide = "quality-for-time"

    def __init__(self, workspace: Workspace, settings: QSettings) -> None:
        super().__init__(workspace, "What has been tried, and what is applied?")
        self._settings = settings
        self.which = QComboBox()
        self.which.addItems(list(_SHOWN))
        self.which.setAccessibleName("Which trials")
        self.keep, self.drop, self.note, self.picture = (
            QPushButton(text) for text in ("Keep", "Drop", "Note ...", "Show its picture")
        )
        self.keep.setToolTip("Apply or remove the selected trials (K)")
        self.drop.setToolTip("Drop the chosen trials, or no longer (Delete); they stay in the file")
        self.together = QPushButton("Measure kept together")
        self.together.setToolTip("All kept trials as one edited frame, against the original in turns")
        self.export = QPushButton("Write out ...")
        self.export.setToolTip("Sources, layouts and a summary of the kept trials, into a folder")
        row = QHBoxLayout()
        for widget in (self.which, self.keep, self.drop, self.note, self.picture):
            row.addWidget(widget)
        row.addStretch(1)
        self.room.addLayout(row)
        self.table: RowsTable[Trial] = RowsTable(
            RowsModel(_COLUMNS),
            "Trials",
            several=True,
            empty="Proofs, experiments and edits of shaders are listed here.",
        )
        self.table.rows.soft = lambda t: t.state == DROPPED
        self.table.rows.tip = lambda t: t.told
        self.details = details_label()
        split = QSplitter(Qt.Orientation.Vertical)
        split.addWidget(self.table)
        split.addWidget(self.details)
        split.setSizes([420, 110])
        split.setChildrenCollapsible(False)
        self.room.addWidget(split, 1)
        last = QHBoxLayout()
        last.addWidget(self.together)
        last.addWidget(self.export)
        last.addStretch(1)
        self.room.addLayout(last)
        self.keep.clicked.connect(lambda: self._set(KEPT))
        self.drop.clicked.connect(lambda: self._set(DROPPED))
        self.note.clicked.connect(self._ask_note)
        self.picture.clicked.connect(self._show_picture)
        self.together.clicked.connect(self._measure)
        self.export.clicked.connect(self._ask_folder)
        self.which.currentIndexChanged.connect(lambda: self.refresh(self._document))
        self.table.selectionModel().selectionChanged.connect(lambda *_: self._tell())
        for key, state in (("K", KEPT), (QKeySequence.StandardKey.Delete, DROPPED)):
            QShortcut(
                QKeySequence(key),
                self.table,
                lambda state=state: self._set(state),
                context=Qt.ShortcutContext.WidgetShortcut,
            )
        self.follow()

    def waits_for(self) -> tuple[str, str]:
        return "none", "Prove a finding, or try what limits a shader: every trial is listed here"

    def figure(self) -> str:
        document = self._workspace.current
        trials = document.trials if document else []
        return f"{sum(t.state == KEPT for t in trials)} of {len(trials)}" if trials else ""

    def refresh(self, document: Document | None) -> None:
        chosen = {t.id for t in self.table.all_chosen}
        trials = document.trials if document else []
        wanted = _SHOWN[self.which.currentText()]
        self.table.rows.show_rows(
            [
                t
                for t in trials
                if wanted is None or wanted in (t.state, t.kind) or (wanted == "" and t.state != DROPPED)
            ]
        )
        model, flags = self.table.selectionModel(), self.table.selectionModel().SelectionFlag
        for number, trial in enumerate(self.table.rows.rows):
            if trial.id in chosen:
                model.select(self.table.rows.index(number, 0), flags.Select | flags.Rows)
        if not self.table.all_chosen and self.table.rows.rows:
            self.table.selectRow(0)
        self.say(*_answer(document, trials))
        self._tell()

    def _tell(self) -> None:
        chosen, trials = self.table.all_chosen, self._document.trials if self._document else []
        kept = [t for t in trials if t.state == KEPT]
        for button in (self.keep, self.drop, self.note):
            button.setEnabled(bool(chosen))
        self.keep.setText("Keep no longer" if chosen and all(t.state == KEPT for t in chosen) else "Keep")
        self.drop.setText("Drop no longer" if chosen and all(t.state == DROPPED for t in chosen) else "Drop")
        self.picture.setEnabled(len(chosen) == 1 and bool(chosen[0].remedies) and chosen[0].verdict != Verdict.REFUSED)
        self.together.setEnabled(any(t.remedies for t in kept))
        self.export.setEnabled(any(t.remedies for t in kept))
        facts: list[tuple[str, str]] = []
        for trial in chosen[:3]:
            name = capital(f"{trial.title} ({trial.kind})")
            facts += [("trial", name), ("result", capital(trial.told)), ("note", trial.note)]
        together = self._document.log.together if self._document else None
        if together is not None:
            current = set(together.together) == {t.id for t in kept if t.remedies}
            facts += [
                ("kept together" if current else "kept together before", together.summary or together.reason),
                ("verdict", together.told_verdict),
                ("submission", together.submission),
            ]
        self.details.setText(labelled(facts))

    def _set(self, state: str) -> None:
        """Keep or drop the chosen trials; where all are so already, undo that."""
        chosen = self.table.all_chosen
        undo = all(t.state == state for t in chosen)
        self._mark({t.id: (UNDECIDED if undo else state, t.note) for t in chosen})

    def _ask_note(self) -> None:
        chosen = self.table.all_chosen
        text, wanted = QInputDialog.getText(
            self, "Note", "A note to keep with it:", text=chosen[0].note if chosen else ""
        )
        if wanted:
            self._mark({t.id: (t.state, text) for t in chosen})

    def _mark(self, marks: dict[str, tuple[str, str]]) -> None:
        if self._document is None:
            return
        try:
            for identity, (state, note) in marks.items():
                self._document.mark_trial(identity, state, note)
        except WendascopeError as error:
            self.evidence.setText(f"Not kept in the file: {error}")
            self.evidence.show()

    def _show_picture(self) -> None:
        trial = self.table.all_chosen[0]
        self._workspace.jobs.show_changed_picture(trial.remedies, trial.title)

    def _measure(self) -> None:
        document = self._document
        if document is None:
            return
        trials = document.trials
        self._workspace.jobs.run_measurement(
            lambda replay, task: measure_kept(document.path, document.frame, trials, replay, task=task),
            document.set_together,
            "The kept trials could not be measured",
        )

    def _ask_folder(self) -> None:
        if self._document is None:
            return
        start = str(self._settings.value("trials_folder", str(self._document.path.parent)))
        folder = QFileDialog.getExistingDirectory(self, "Folder for the kept trials", start)
        if folder:
            self._settings.setValue("trials_folder", folder)
            self.write_out(Path(folder))

    def write_out(self, folder: Path) -> None:
        """Write the kept trials into a folder, in the background."""
        document = self._document
        if document is None:
            return
        trials, together = document.trials, document.log.together
        self._workspace.jobs.run_job(
            JobName.TRIAL_FILES,
            lambda _replay, _task: write_trials(document.frame, document.path.name, kept_of(trials), together, folder),
            lambda written: self.details.setText(f"Wrote {len(written)} files into {escape(str(folder))}."),
            lambda error: self.details.setText(escape(str(error))),
        )


def _answer(document: Document | None, trials: list[Trial]) -> tuple[str, str]:
    if document is None:
        return "", ""
    if not trials:
        return (
            "Nothing was tried on this frame yet.",
            "Proofs of findings, edits of shaders and experiments are collected here.",
        )
    kinds = Counter(t.kind for t in trials)
    told = ", ".join(plural(count, kind) for kind, count in kinds.most_common())
    gains = sum(t.verdict == Verdict.SAVES for t in trials)
    kept = sum(t.state == KEPT for t in trials)
    together = document.log.together
    rest = f"{capital(told)}."
    if together is not None and together.steps_before:
        rest += f" Of those kept, {together.together_summary}."
    return f"Time is saved by {gains} of {plural(len(trials), 'trial')}; {kept} kept.", rest
