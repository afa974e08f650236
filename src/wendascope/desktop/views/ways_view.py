"""The ways to draw a batch, side by side, each to be proved."""

from __future__ import annotations

from PySide6.QtWidgets import QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from wendascope.advice.ways import Way, ways_of
from wendascope.analysis.draws.batches import Batch
from wendascope.desktop.models.document import Document, Workspace
from wendascope.desktop.widgets.plain import Label
from wendascope.desktop.widgets.rows_table import Column, RowsModel, RowsTable
from wendascope.desktop.widgets.theme import GRID
from wendascope.texts import capital
from wendascope.trials.proofs.proof import Proof
from wendascope.trials.proofs.verdicts import SHORT

_NOTHING = "Select a batch to see the ways to draw it."


class WaysView(QWidget):
    """A table of ways; what was proved of each stays in the file."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self._workspace = workspace
        self._document: Document | None = None
        self._batch: Batch | None = None
        columns: tuple[Column[Way], ...] = (
            Column("way", 150, lambda w: w.name, right=False),
            Column("GPU saved, ms", 104, lambda w: self._ms(w, False), tip="Proved: work of the GPU"),
            Column("CPU saved, ms", 104, lambda w: self._ms(w, True), tip="Proved: CPU time of submission"),
            Column("new KiB", 72, self._new, tip="Proved: new buffers and textures"),
            Column("state", 0, self._state, right=False),
        )
        self.table: RowsTable[Way] = RowsTable(
            RowsModel(columns),
            "Ways to draw the batch",
            sortable=False,
            empty="Choose a batch above to see in which ways it can be drawn.",
        )
        self.prove = QPushButton("Prove")
        self.note = Label(_NOTHING)
        self.note.setWordWrap(True)
        row = QHBoxLayout()
        row.addWidget(self.prove)
        row.addWidget(self.note, 1)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, GRID // 2, 0, 0)
        layout.setSpacing(GRID // 2)
        layout.addWidget(self.table, 1)
        layout.addLayout(row)
        self.prove.clicked.connect(self._prove)
        self.table.chosen_changed.connect(lambda _way: self._enable())
        self._enable()

    def show_batch(self, document: Document | None, batch: Batch | None) -> None:
        """The ways of a batch of the document; proofs that came since are shown as well."""
        if document is not self._document or batch is not self._batch:
            self._document, self._batch = document, batch
            found = document.structure if document else None
            rows = ways_of(found.sharing, found.batches, batch) if found and batch else []
            self.table.rows.show_rows(rows)
            if rows:
                self.table.choose(rows[0])
        else:
            self.table.rows.repaint_rows()
        self._enable()

    def _prove(self) -> None:
        if self.table.chosen is not None:
            self._workspace.jobs.prove([self.table.chosen.finding])

    def _enable(self) -> None:
        way = self.table.chosen
        self.prove.setEnabled(way is not None)
        self.note.setText(
            f"{capital(way.finding.title)}. What moves still: {way.moves}. What ends it: {way.breaks}."
            if way
            else _NOTHING
        )

    def _proof(self, way: Way) -> Proof | None:
        return self._document.proofs.get(way.finding.id) if self._document else None

    def _state(self, way: Way) -> str:
        proof = self._proof(way)
        return SHORT.get(proof.verdict, proof.verdict) if proof else "not tried"

    def _ms(self, way: Way, submission: bool) -> str:
        proof = self._proof(way)
        saved = None if proof is None else proof.submit_saved_ms if submission else proof.saved_ms
        return "" if saved is None else f"{saved.median:.2f}"

    def _new(self, way: Way) -> str:
        proof = self._proof(way)
        return "" if proof is None or not proof.new_bytes else f"{proof.new_bytes / 1024:,.0f}"
