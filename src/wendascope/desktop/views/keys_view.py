"""Keys to unify: what draws would have to share to be fewer, with ticks to plan as if they did."""

from __future__ import annotations

from dataclasses import dataclass

from PySide6.QtCore import QModelIndex, Qt
from PySide6.QtGui import QKeySequence, QShortcut
from PySide6.QtWidgets import QVBoxLayout, QWidget

from wendascope.analysis.draws.structure import Structure
from wendascope.analysis.draws.unify import KEYS, KeyGain, Shared, draws_in, keys_to_unify, plan_with
from wendascope.analysis.geometry.drawn import touched_of
from wendascope.desktop.models.commands import JobName
from wendascope.desktop.models.document import Document, Workspace
from wendascope.desktop.widgets.plain import Label
from wendascope.desktop.widgets.rows_table import Column, RowsModel, RowsTable
from wendascope.desktop.widgets.theme import GRID
from wendascope.texts import plural


@dataclass(frozen=True)
class KeyRow:
    """One key: what it brings, as long as it is not ticked."""

    shared: Shared
    ticked: bool
    gain: KeyGain | None
    what: str
    """Of some of its values: which."""

    @property
    def label(self) -> str:
        return f"      {self.what}" if self.what else KEYS[self.shared.key]


_COLUMNS: tuple[Column[KeyRow], ...] = (
    Column("", 28, lambda r: "☑" if r.ticked else "☐", lambda r: r.ticked, "Tick to plan as if draws shared it", False),
    Column("if draws shared ...", 0, lambda r: r.label, right=False),
    Column(
        "draws less", 88, lambda r: f"{r.gain.saved:,}" if r.gain else "", lambda r: r.gain.saved if r.gain else None,
        "Draws that the plan would have less",
    ),
    Column(
        "values joined", 100, lambda r: f"{r.gain.values:,}" if r.gain and r.gain.values else "",
        lambda r: r.gain.values if r.gain else None, "Different values among the draws that would come together",
    ),
)  # fmt: skip
_Answer = tuple[int, int, list[KeyGain]]
"""Draws of the plan, draws with what is ticked, gains of the other keys."""


class KeysView(QWidget):
    """The table of keys, and what the plan would come to with those that are ticked."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self._workspace = workspace
        self._document: Document | None = None
        self._shown: Structure | None = None
        self._shared: frozenset[Shared] = frozenset()
        self._words: dict[Shared, str] = {}
        self.note = Label()
        self.note.setWordWrap(True)
        self.table: RowsTable[KeyRow] = RowsTable(RowsModel(_COLUMNS), "Keys to unify", sortable=False)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, GRID // 2, 0, 0)
        layout.setSpacing(GRID // 2)
        layout.addWidget(self.note)
        layout.addWidget(self.table, 1)
        self.table.clicked.connect(self._clicked)
        self.table.chosen_changed.connect(self._chosen)
        toggle = QShortcut(QKeySequence(Qt.Key.Key_Space), self.table)
        toggle.setContext(Qt.ShortcutContext.WidgetShortcut)
        toggle.activated.connect(lambda: self.toggle(self.table.chosen))

    def show_document(self, document: Document | None) -> None:
        self._document = document
        found = document.structure if document else None
        if found is not self._shown:
            self._shown, self._shared = found, frozenset()
            self.table.rows.show_rows([])
            self.note.setText("")
            if self.isVisible():
                self._ask()

    def showEvent(self, event: object) -> None:
        if self._shown is not None and not self.table.rows.rows:
            self._ask()

    def toggle(self, row: KeyRow | None) -> None:
        """Tick a key, or take its tick back."""
        if row is not None:
            self._shared ^= {row.shared}
            self._ask()

    def _clicked(self, index: QModelIndex) -> None:
        if index.column() == 0:
            self.toggle(self.table.rows.rows[index.row()])

    def _chosen(self, row: KeyRow | None) -> None:
        """Its largest draw is shown in the picture by its first step."""
        if row is not None and row.gain is not None and row.gain.steps and self._document is not None:
            self._document.selection.choose(row.gain.steps[0])

    def _ask(self) -> None:
        document, found, shared = self._document, self._shown, self._shared
        if document is None or found is None:
            return
        self.note.setText("Planning ...")
        now = found.batches.draws_now() - found.batches.saved  # limits may split draws

        def work(_replay: object, _task: object) -> _Answer:
            touched = touched_of(document.drawn)
            whole = draws_in(plan_with(found.sharing, touched))
            less = whole - draws_in(plan_with(found.sharing, touched, shared)) if shared else 0
            return now, now - less, keys_to_unify(found.sharing, touched, shared)

        self._workspace.jobs.run_job(
            JobName.KEYS, work, lambda answer: self._show(shared, answer), lambda error: self.note.setText(str(error))
        )

    def _show(self, shared: frozenset[Shared], answer: _Answer) -> None:
        if shared != self._shared:
            return
        now, then, gains = answer
        self._words |= {gain.shared: gain.what for gain in gains}
        kept = self.table.chosen
        ticked = sorted(shared, key=lambda item: (list(KEYS).index(item.key), item.steps))
        rows = [KeyRow(item, True, None, self._words.get(item, "")) for item in ticked]
        shown = {item.key for item in shared} | {gain.key for gain in gains}
        for whole in [gain for gain in gains if not gain.of]:
            parts = [gain for gain in gains if gain.of and gain.key == whole.key]
            rows += [KeyRow(gain.shared, False, gain, gain.what) for gain in (whole, *parts)]
        rows += [KeyRow(Shared(key), False, None, "") for key in KEYS if key not in shown]
        self.table.rows.show_rows(rows)
        for row in rows:
            if kept is not None and row.shared == kept.shared:
                self.table.choose(row)
        if shared:
            self.note.setText(
                f"With what is ticked shared, {plural(now, 'draw')} of the plan would be {then:,}. Whether that can be,"
                " is for you to say: nothing is tried here."
            )
        elif gains:
            best = gains[0]
            self.note.setText(
                f"The plan has {plural(now, 'draw')}. Sharing the {KEYS[best.key]} would bring the most:"
                f" {best.saved:,} less."
            )
        else:
            self.note.setText(f"The plan has {plural(now, 'draw')}, and no single key keeps more of them apart.")
