"""The pixel stack: what became of every step at the pinned pixel."""

from __future__ import annotations

from PySide6.QtGui import QColor, QPixmap
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from wendascope.desktop.models.commands import JobName
from wendascope.desktop.models.document import Document, Workspace
from wendascope.desktop.widgets.plain import Label
from wendascope.desktop.widgets.rows_table import Column, RowsModel, RowsTable
from wendascope.desktop.widgets.theme import GRID
from wendascope.measure.pixel_stack import PixelStack, StackEntry, pixel_stack
from wendascope.texts import plural, verb

FATES = {
    "visible": "visible",
    "covered": "covered by step {by:,}",
    "blended": "blended",
    "no change": "blended, changed nothing",
    "behind": "rejected by depth",
    "stencil": "rejected by stencil",
    "discarded": "discarded",
    "scissor": "outside the scissor",
    "cleared": "cleared, still seen",
    "depth only": "depth only",
}
_COUNTS = {"visible", "blended", "cleared"}


def fate_text(entry: StackEntry) -> str:
    """What became of a step at the pixel, in words."""
    return FATES.get(entry.fate, entry.fate).format(by=entry.by or 0)


class PixelStackView(QWidget):
    """Follows the pin of a document: asks for its stack, and chooses steps in it."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self._workspace = workspace
        self._document: Document | None = None
        self._asked: int | None = None
        """The pass that was asked about; None for the window."""
        self.title = Label()
        self.title.setWordWrap(True)
        self.again = QPushButton("Unpin")
        self.again.setToolTip("Unpin the pixel")
        self.table: RowsTable[StackEntry] = RowsTable(
            RowsModel(self._columns()),
            "Pixel stack",
            sortable=False,
            empty="Click into the picture to see all that was drawn at a pixel.",
        )
        self.table.rows.soft = lambda entry: entry.fate not in _COUNTS
        self.table.rows.tip = self._pass_name
        top = QHBoxLayout()
        top.addWidget(self.title, 1)
        top.addWidget(self.again)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, GRID // 2, 0, 0)
        layout.setSpacing(GRID // 2)
        layout.addLayout(top)
        layout.addWidget(self.table, 1)
        self.table.chosen_changed.connect(self._chosen)
        self.again.clicked.connect(lambda: self._document and self._document.pin.put(None))
        self._show(None)

    def show_document(self, document: Document | None) -> None:
        if document is self._document:
            return
        self._document = document
        if document is not None:
            document.pin.listen(self._ask)
            document.selection.listen(self._moved)
        self._ask()

    def _moved(self) -> None:
        """In another pass the same pixel has another stack."""
        document = self._document
        if document is not None and document.pin.at is not None and self._pass() != self._asked:
            self._ask()

    def _pass(self) -> int | None:
        assert self._document is not None
        step = self._document.selection.step
        return None if step is None else int(self._document.frame.passes.of_step[step])

    def _ask(self) -> None:
        document = self._document
        at = document.pin.at if document else None
        if document is None or at is None:
            self._show(None)
            return
        step, self._asked = document.selection.step, self._pass()
        self.title.setText(f"Looking at pixel {at[0]}, {at[1]}")
        self._workspace.jobs.run_job(
            JobName.PIXEL_STACK,
            lambda replay, task: replay.run(pixel_stack.asked(at[0], at[1], step), task),
            lambda found: self._arrived(document, found),
            lambda error: self.title.setText(str(error)),
        )

    def _arrived(self, document: Document, found: PixelStack) -> None:
        if document is self._document and document.pin.at == (found.x, found.y):
            self._show(found)

    def _show(self, found: PixelStack | None) -> None:
        self.table.rows.show_rows([])
        self.again.setVisible(found is not None)
        if found is None or self._document is None:
            self.title.setText("Click a pixel of the picture to see every draw that covered it.")
            return
        count = sum(entry.passed for entry in found.entries)
        seen = sum(entry.fate in _COUNTS for entry in found.entries)
        caveats = f" {found.caveats[0][:1].upper()}{found.caveats[0][1:]}." if found.caveats else ""
        self.title.setText(
            f"Pixel {found.x}, {found.y} of {found.target}: {plural(len(found.entries), 'step')},"
            f" {plural(count, 'fragment')} passed, {seen} of the steps {verb(seen, 'matters', 'matter')} in the end."
            f"{caveats}"
        )
        self.table.rows.show_rows(found.entries[::-1])  # the last on top, as they lie

    def _columns(self) -> list[Column[StackEntry]]:
        def name(entry: StackEntry) -> str:
            return self._document.frame.step_name(entry.step) if self._document else ""

        def colour(entry: StackEntry) -> str:
            return "" if entry.colour is None else " ".join(str(v) for v in entry.colour[:3])

        return [
            Column("step", 56, lambda entry: str(entry.step)),
            Column("what", 0, name, right=False),
            Column("fate", 152, fate_text, right=False),
            Column("passed", 64, lambda entry: str(entry.passed or ""), gives_way=True),
            Column(
                "rejected",
                72,
                lambda entry: str(entry.behind + entry.stencilled + entry.discarded or ""),
                gives_way=True,
            ),
            Column("colour", 120, colour, icon=_swatch),
            Column("depth", 72, lambda entry: "" if entry.depth is None else f"{entry.depth:.5f}"),
        ]

    def _pass_name(self, entry: StackEntry) -> str:
        if self._document is None:
            return ""
        passes = self._document.frame.passes
        return passes.names[int(passes.of_step[entry.step])]

    def _chosen(self, entry: StackEntry | None) -> None:
        if entry is not None and self._document is not None:
            self._document.selection.choose(entry.step)


def _swatch(entry: StackEntry) -> QPixmap | None:
    if entry.colour is None:
        return None
    swatch = QPixmap(12, 12)
    swatch.fill(QColor(*entry.colour[:3]))
    return swatch
