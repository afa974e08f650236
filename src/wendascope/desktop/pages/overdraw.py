"""The Overdraw page: what is drawn that nobody sees."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QSettings, Qt
from PySide6.QtWidgets import QHeaderView, QTreeWidget, QTreeWidgetItem

from wendascope.analysis.geometry.drawn import Area, StepDrawn
from wendascope.analysis.time.answers import overdraw_answer, overdraw_share
from wendascope.analysis.time.shares import fragment_parts
from wendascope.desktop.models.document import Document, Workspace
from wendascope.desktop.models.tree import FrameTree, Node
from wendascope.desktop.pages._following import FramePage
from wendascope.desktop.pages._registry import page
from wendascope.desktop.views.findings_view import FindingsView
from wendascope.desktop.views.pixel_stack import PixelStackView
from wendascope.desktop.views.step_tree import Column, StepTree
from wendascope.desktop.widgets.theme import GRID, figures_font
from wendascope.texts import share, visible


class _Areas(QTreeWidget):
    """The squares with the most layers of every pass; choosing one holds its middle."""

    def __init__(self, look_at: Callable[[int, Area], None]) -> None:
        super().__init__()
        self._look_at = look_at
        self._areas: list[tuple[int, Area]] = []
        self.setColumnCount(3)
        self.setHeaderLabels(["pass", "layers", "place"])
        self.setRootIsDecorated(False)
        self.setFont(figures_font())
        self.setAccessibleName("Worst areas")
        self.header().setStretchLastSection(False)
        self.header().setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        self.header().resizeSection(1, 10 * GRID)
        self.header().resizeSection(2, 32 * GRID)
        self.itemClicked.connect(self._chosen)
        self.itemActivated.connect(self._chosen)

    def show_document(self, document: Document | None) -> None:
        self.clear()
        drawn = document.drawn if document else None
        self._areas = (
            sorted(((p.index, area) for p in drawn.passes for area in p.worst), key=lambda row: -row[1].layers)
            if drawn
            else []
        )
        for number, (index, area) in enumerate(self._areas):
            assert document is not None
            place = f"{area.width} x {area.height} pixels at {area.x}, {area.y}"
            item = QTreeWidgetItem([visible(document.frame.passes.names[index]), f"{area.layers:.2f}", place])
            item.setTextAlignment(1, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
            item.setData(0, Qt.ItemDataRole.UserRole, number)
            self.addTopLevelItem(item)

    def _chosen(self, item: QTreeWidgetItem, _column: int = 0) -> None:
        self._look_at(*self._areas[item.data(0, Qt.ItemDataRole.UserRole)])


@page("Overdraw", 20)
class OverdrawPage(FramePage):
    """Answer sentence, the table of passes and steps, then findings and the pixel stack."""

    guide = "overdraw"
    stages = ("coverage",)
    picture_share = 0.54
    under_share = 0.28

    def __init__(self, workspace: Workspace, _settings: QSettings) -> None:
        super().__init__(workspace, "How often is each pixel shaded, and which draws are visible?")
        self.table = StepTree(workspace, self._columns(), "Overdraw of passes and steps")
        self.findings = FindingsView(workspace, "Overdraw")
        self.stack = PixelStackView(workspace)
        self.areas = _Areas(self._look_at)
        self.tabs = self.split(
            self.table, [("Findings", self.findings), ("Pixel stack", self.stack), ("Worst areas", self.areas)]
        )
        self.follow()

    def figure(self) -> str:
        document = self._workspace.current
        return "" if document is None or document.drawn is None else f"{share(overdraw_share(document.drawn))}"

    def opened(self, document: Document | None) -> None:
        if document is not None:
            document.pin.listen(self._pinned)
        self.stack.show_document(document)

    def refresh(self, document: Document | None) -> None:
        self.table.show_document(document if document and document.drawn else None)
        self.findings.show_document(document)
        self.areas.show_document(document)
        if document is None:
            self.say("")
        elif document.drawn is None:
            self.say("Not measured yet.", "Press Ctrl+M to count the layers of every pass and step.")
        else:
            answer, evidence = overdraw_answer(document.drawn, document.frame.passes.short_names)
            caveats = "".join(f" {c[:1].upper()}{c[1:]}." for c in document.drawn.caveats)
            self.say(answer, evidence + caveats, fragment_parts(document.drawn))

    def _look_at(self, index: int, area: Area) -> None:
        """Choose the pass as it ends up and hold the middle of an area of it."""
        if self._document is not None:
            self._document.selection.choose(int(self._document.frame.passes.end[index]) - 1)
            self._document.pin.put((area.x + area.width // 2, area.y + area.height // 2))

    def _pinned(self) -> None:
        if self._document is not None and self._document.pin.at is not None:
            self.tabs.setCurrentWidget(self.stack)

    def _columns(self) -> list[Column]:
        def drawn(step: int) -> StepDrawn:
            assert self._document is not None and self._document.drawn is not None
            return self._document.drawn.steps[step]

        def counted(node: Node) -> list[StepDrawn]:
            rows = [drawn(step) for step in node.steps.tolist()]
            return [row for row in rows if row.fragments >= 0 and row.kind != "clear"]

        def waste(tree: FrameTree, node: Node) -> float | None:
            if tree.survey is None:
                return None
            ms = tree.survey.steps.ms
            parts = [ms[s] * drawn(s).wasted_share for s in node.steps.tolist() if drawn(s).kind != "clear"]
            return sum(parts) if parts else None

        def wasted(_tree: FrameTree, node: Node) -> float | None:
            rows = counted(node)
            total = sum(row.fragments for row in rows)
            return sum(row.fragments * row.wasted_share for row in rows) / total if total else 0.0 if rows else None

        def layers(_tree: FrameTree, node: Node) -> float | None:
            assert self._document is not None and self._document.drawn is not None
            return self._document.drawn.passes[node.pass_index].average if node.kind == "pass" else None

        def fragments(_tree: FrameTree, node: Node) -> float | None:
            rows = counted(node)
            return float(sum(row.fragments for row in rows)) if rows else None

        tip = "Estimated: time alone by the wasted share of the fragments"
        covered = "Share of fragments covered later, or blended without a change"
        return [
            Column("~ waste, ms", waste, "{:.2f}".format, 104, tip=tip),
            Column("wasted", wasted, share, 72, True, covered),
            Column(
                "layers",
                layers,
                "{:.2f}".format,
                64,
                tip="Average over the pixels that a pass draws to",
                gives_way=True,
            ),
            Column("fragments", fragments, "{:,.0f}".format, 88, tip="That passed all tests"),
        ]
