"""The pixel stack: what became of every step at the pinned pixel."""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import Qt
from PySide6.QtGui import QColor, QGuiApplication, QIcon, QKeySequence, QPixmap
from PySide6.QtWidgets import (
    QAbstractItemView,
    QHBoxLayout,
    QHeaderView,
    QLabel,
    QPushButton,
    QTreeWidget,
    QTreeWidgetItem,
    QVBoxLayout,
    QWidget,
)

from wendascope.desktop.models.commands import JobName
from wendascope.desktop.models.document import Document, Workspace
from wendascope.desktop.theme import GRID, figures_font, theme
from wendascope.measure.pixel_stack import PixelStack, StackEntry, pixel_stack
from wendascope.texts import plural, verb

_TITLES = ("step", "what", "fate", "passed", "rejected", "colour", "depth")
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
    return FATES.get(entry.fate, entry.fate).format(by=entry.by or 0)


class _Tree(QTreeWidget):
    def keyPressEvent(self, event: Any) -> None:
        if event.matches(QKeySequence.StandardKey.Copy):
            rows = [self.topLevelItem(i) for i in range(self.topLevelItemCount())]
            lines = ["\t".join(_TITLES)] + ["\t".join(row.text(c) for c in range(len(_TITLES))) for row in rows if row]
            QGuiApplication.clipboard().setText("\n".join(lines))
        else:
            super().keyPressEvent(event)


class PixelStackView(QWidget):
    """Follows the pin of a document: asks for its stack, and chooses steps in it."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self._workspace = workspace
        self._document: Document | None = None
        self._asked: int | None = None
        """The pass that was asked about; None for the window."""
        self.title = QLabel()
        self.title.setWordWrap(True)
        self.again = QPushButton("Unpin")
        self.again.setToolTip("Unpin the pixel")
        self.tree = _Tree()
        self.tree.setColumnCount(len(_TITLES))
        self.tree.setHeaderLabels(list(_TITLES))
        self.tree.setRootIsDecorated(False)
        self.tree.setUniformRowHeights(True)
        self.tree.setFont(figures_font())
        self.tree.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.tree.setAccessibleName("Pixel stack")
        header = self.tree.header()
        header.setStretchLastSection(False)
        header.setSectionResizeMode(1, QHeaderView.ResizeMode.Stretch)
        for column, width in ((0, 56), (2, 152), (3, 64), (4, 72), (5, 120), (6, 72)):
            header.resizeSection(column, width)
        top = QHBoxLayout()
        top.addWidget(self.title, 1)
        top.addWidget(self.again)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, GRID // 2, 0, 0)
        layout.setSpacing(GRID // 2)
        layout.addLayout(top)
        layout.addWidget(self.tree, 1)
        self.tree.currentItemChanged.connect(self._chosen)
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
        self._workspace.commands.run_job(
            JobName.PIXEL_STACK,
            lambda replay, progress, cancelled: replay.run(pixel_stack.asked(at[0], at[1], step), progress, cancelled),
            lambda found: self._arrived(document, found),
            lambda error: self.title.setText(str(error)),
        )

    def _arrived(self, document: Document, found: PixelStack) -> None:
        if document is self._document and document.pin.at == (found.x, found.y):
            self._show(found)

    def _show(self, found: PixelStack | None) -> None:
        self.tree.clear()
        self.again.setVisible(found is not None)
        if found is None or self._document is None:
            self.title.setText("Click a pixel of the picture to see every draw that covered it.")
            return
        frame = self._document.frame
        count = sum(entry.passed for entry in found.entries)
        seen = sum(entry.fate in _COUNTS for entry in found.entries)
        caveats = f" {found.caveats[0][:1].upper()}{found.caveats[0][1:]}." if found.caveats else ""
        self.title.setText(
            f"Pixel {found.x}, {found.y} of {found.target}: {plural(len(found.entries), 'step')},"
            f" {plural(count, 'fragment')} passed, {seen} of the steps {verb(seen, 'matters', 'matter')} in the end."
            f"{caveats}"
        )
        soft = QColor(theme().soft)
        for entry in reversed(found.entries):  # the last on top, as they lie
            rejected = entry.behind + entry.stencilled + entry.discarded
            item = QTreeWidgetItem(
                [
                    str(entry.step),
                    frame.step_name(entry.step),
                    fate_text(entry),
                    str(entry.passed or ""),
                    str(rejected or ""),
                    "" if entry.colour is None else " ".join(str(v) for v in entry.colour[:3]),
                    "" if entry.depth is None else f"{entry.depth:.5f}",
                ]
            )
            item.setData(0, Qt.ItemDataRole.UserRole, entry.step)
            for column in (0, 3, 4, 5, 6):
                item.setTextAlignment(column, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
            if entry.colour is not None:
                swatch = QPixmap(12, 12)
                swatch.fill(QColor(*entry.colour[:3]))
                item.setIcon(5, QIcon(swatch))
            if entry.fate not in _COUNTS:
                for column in range(len(_TITLES)):
                    item.setForeground(column, soft)
            item.setToolTip(1, frame.passes.names[int(frame.passes.of_step[entry.step])])
            self.tree.addTopLevelItem(item)

    def _chosen(self, item: QTreeWidgetItem | None, _before: object) -> None:
        if item is not None and self._document is not None:
            self._document.selection.choose(int(item.data(0, Qt.ItemDataRole.UserRole)))
