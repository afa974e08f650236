"""The Memory page: what is kept on the GPU, and what of it does the frame need?"""

from __future__ import annotations

from collections.abc import Mapping

from PySide6.QtCore import QSettings
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QLineEdit, QVBoxLayout, QWidget

from wendascope.analysis.memory.memory_use import NEVER
from wendascope.analysis.memory.sums import GROUPINGS, grouped, is_unused, memory_answer, total
from wendascope.analysis.memory.traffic import Moved, ObjectKey, traffic
from wendascope.desktop.charts.treemap import Treemap
from wendascope.desktop.models.commands import JobName
from wendascope.desktop.models.document import Document, Workspace
from wendascope.desktop.pages._following import FramePage
from wendascope.desktop.pages._registry import page
from wendascope.desktop.views.contents_view import ContentsView
from wendascope.desktop.views.findings_view import FindingsView
from wendascope.desktop.widgets.rows_table import Column, RowsModel, RowsTable
from wendascope.frame.frame import Frame
from wendascope.frame.memory import MemoryItem
from wendascope.report.memory import last_writer, pass_names
from wendascope.texts import joined_parts, memory, plural

_SHOWN = ("all objects", "used in this frame", "not used in this frame")


@page("Memory", 64)
class MemoryPage(FramePage):
    """Answer sentence, areas by size, then the table of objects, what the chosen one holds, and findings."""

    guide = "memory"
    stages = ("memory",)
    picture_share = 0.32

    def __init__(self, workspace: Workspace, settings: QSettings) -> None:
        super().__init__(workspace, "What is kept on the GPU, and what of it does the frame need?")
        self._settings = settings
        self._shown: tuple[Frame, str, str, str] | None = None
        self._finest: dict[int, float] = {}
        """Texture -> the finest level that was read, where that was measured."""
        self._traffic: dict[ObjectKey, Moved] = {}
        self.by, self.which, self.words = QComboBox(), QComboBox(), QLineEdit()
        self.which.setAccessibleName("Which objects")
        self.by.addItems([f"by {name}" for name in GROUPINGS])
        self.by.setToolTip("What areas and rows are grouped by")
        self.which.addItems(list(_SHOWN))
        self.words.setPlaceholderText("filter by name, format, kind or pass")
        self.words.setClearButtonEnabled(True)
        self.treemap = Treemap()
        self.table: RowsTable[MemoryItem] = RowsTable(
            RowsModel(_columns(None, self._finest, self._traffic), (1, True)),
            "Objects in memory",
            empty="No object is like that.",
        )
        self.table.rows.soft = lambda item: not item.used
        self.table.rows.tip = self._tip
        self.contents = ContentsView(workspace)
        self.findings = FindingsView(workspace, "Memory")
        above = QWidget()
        column, row = QVBoxLayout(above), QHBoxLayout()
        column.setContentsMargins(0, 0, 0, 0)
        for control in (self.by, self.which):
            row.addWidget(control)
        row.addWidget(self.words, 1)
        column.addLayout(row)
        column.addWidget(self.treemap, 1)
        self.tabs = self.split(
            above, [("Objects", self.table), ("Contents", self.contents), ("Findings", self.findings)]
        )
        chosen = settings.value("memory/by", "by kind")
        self.by.setCurrentText(str(chosen))
        self.by.currentTextChanged.connect(self._group)
        self.which.currentTextChanged.connect(lambda _text: self._show())
        self.words.textChanged.connect(lambda _text: self._show())
        self.treemap.chosen.connect(self._from_areas)
        self.table.chosen_changed.connect(self._from_table)
        self.table.doubleClicked.connect(lambda _index: self.tabs.setCurrentWidget(self.contents))
        self.table.activated.connect(lambda _index: self.tabs.setCurrentWidget(self.contents))
        self.tabs.currentChanged.connect(lambda _tab: self._show_contents())
        self.follow()

    def figure(self) -> str:
        document = self._workspace.current
        return memory(total(document.frame.memory)) if document and document.frame.memory else ""

    def opened(self, document: Document | None) -> None:
        self._shown = None
        self.contents.show_document(document)
        if document is not None:
            self.table.rows.columns = _columns(document.frame, self._finest, self._traffic)

    def refresh(self, document: Document | None) -> None:
        self.findings.show_document(document)
        if document is None:
            self.say("")
            self.treemap.show_groups([])
            self.table.rows.show_rows([])
            return
        self._finest.clear()
        if document.memory_use is not None:
            measured = document.memory_use.sampled.textures
            self._finest.update((row.texture, row.finest) for row in measured if row.finest < NEVER)
        self._traffic.clear()
        self._workspace.jobs.run_job(
            JobName.TRAFFIC,
            lambda _replay, _task: traffic(document.frame, document.drawn, document.memory_use),
            lambda found: self._moves(document, found),
            lambda error: None,  # the column stays empty
        )
        self.say(*memory_answer(document.frame))
        self._show()

    def _moves(self, document: Document, found: Mapping[ObjectKey, Moved]) -> None:
        if document is self._workspace.current:
            self._traffic.update(found)
            self.table.viewport().update()

    def _tip(self, item: MemoryItem) -> str:
        written = last_writer(self._document.frame, item) if self._document else ""
        users = ", ".join(pass_names(self._document.frame, item)) if self._document else ""
        lines = [item.how, f"used by {users}" if users else "", f"last written by {written}" if written else ""]
        return "\n".join(line for line in lines if line)

    def _group(self, text: str) -> None:
        self._settings.setValue("memory/by", text)
        self._show()

    def _show(self) -> None:
        document = self._document
        if document is None:
            return
        by, which, words = self.by.currentText().removeprefix("by "), self.which.currentText(), self.words.text()
        state = (document.frame, by, which, words)
        if self._shown == state:
            return
        self._shown = state
        items = [i for i in document.frame.memory if _fits(i, which) and _says(document.frame, i, words)]
        self.treemap.show_groups(grouped(document.frame, items, by))
        self.table.rows.show_rows(items)

    def choose(self, item: MemoryItem) -> None:
        """Show what an object holds."""
        self._from_areas(item)
        self.tabs.setCurrentWidget(self.contents)

    def _from_areas(self, item: MemoryItem) -> None:
        self.table.choose(item)
        self.table.scrollTo(self.table.currentIndex())

    def _from_table(self, item: MemoryItem | None) -> None:
        self.treemap.choose(item)
        if item is not None and self._document is not None:
            shown = item.writes[-1:].tolist() or item.reads[:1].tolist()
            self._document.selection.mark(item.steps.tolist(), *shown)
        self._show_contents()

    def _show_contents(self) -> None:
        if self.tabs.currentWidget() is self.contents:
            self.contents.show_item(self.table.chosen)


def _fits(item: MemoryItem, which: str) -> bool:
    if which == _SHOWN[1]:
        return item.used
    return which != _SHOWN[2] or is_unused(item)


def _says(frame: Frame, item: MemoryItem, words: str) -> bool:
    """Whether every word is somewhere in what is known of an object."""
    if not words.strip():
        return True
    said = " ".join((item.title, item.format, item.kind.value, item.shape, item.dimensions, *pass_names(frame, item)))
    return all(word in said.lower() for word in words.lower().split())


def _columns(
    frame: Frame | None, levels: Mapping[int, float], traffic: Mapping[ObjectKey, Moved]
) -> list[Column[MemoryItem]]:
    def finest(item: MemoryItem) -> float | None:
        return levels.get(item.name) if item.object_class == "texture" else None

    def finest_text(item: MemoryItem) -> str:
        level = finest(item)
        return "" if level is None else f"{level:.1f}"

    def moves(item: MemoryItem) -> int:
        row = traffic.get((item.object_class, item.name))
        return 0 if row is None else row.bytes

    def used_by(item: MemoryItem) -> str:
        if frame is None or not item.used:
            return "not used" if item.followed else "not followed"
        return ", ".join(joined_parts(pass_names(frame, item))) or "uploads and readbacks"

    def size(item: MemoryItem) -> str:
        return "not known" if item.bytes is None else memory(item.bytes)

    return [
        Column(
            "object",
            86,
            lambda item: item.label or item.title,
            lambda item: (item.object_class, item.name),
            right=False,
            copied=lambda item: item.title,
        ),
        Column("bytes", 78, size, lambda item: item.bytes, copied=lambda item: str(item.size)),
        Column("kind", 100, lambda item: item.kind.value, right=False),
        Column("format", 100, lambda item: item.format.removeprefix("COMPRESSED_"), right=False),
        Column("size", 94, _extent, lambda item: item.width * item.height * item.layers, right=False),
        Column(
            "finest",
            48,
            finest_text,
            finest,
            tip="The finest mip level that any fragment reads, measured in a survey",
            gives_way=True,
        ),
        Column(
            "moved",
            78,
            lambda item: memory(moves(item)) if moves(item) else "",
            moves,
            tip="Bytes read and written in this frame, modelled: a texel for each fragment and each texture sample",
            copied=lambda item: str(moves(item)),
        ),
        Column("steps", 44, lambda item: f"{len(item.steps):,}", lambda item: len(item.steps), gives_way=True),
        Column("used by", 0, used_by, right=False),
    ]


def _extent(item: MemoryItem) -> str:
    """`1024 x 1024, 11 levels`."""
    levels = f", {plural(item.levels, 'level')}" if item.levels > 1 else ""
    return item.dimensions + levels + (f", {item.samples} samples" if item.samples else "")
