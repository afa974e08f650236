"""The Overdraw page: what is drawn that nobody sees."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QSettings, Qt
from PySide6.QtWidgets import QHeaderView, QTreeWidget, QTreeWidgetItem

from wendascope.analysis.answers import overdraw_answer, overdraw_share
from wendascope.analysis.drawn import Area, StepDrawn
from wendascope.desktop.findings_view import FindingsView
from wendascope.desktop.models.document import Document, Workspace
from wendascope.desktop.pages._following import FramePage
from wendascope.desktop.pages._registry import page
from wendascope.desktop.pass_table import Column, PassTable
from wendascope.desktop.pixel_stack import PixelStackView
from wendascope.desktop.theme import GRID, figures_font
from wendascope.texts import share


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
            item = QTreeWidgetItem([document.frame.passes.names[index], f"{area.layers:.2f}", place])
            item.setTextAlignment(1, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
            item.setData(0, Qt.ItemDataRole.UserRole, number)
            self.addTopLevelItem(item)

    def _chosen(self, item: QTreeWidgetItem, _column: int = 0) -> None:
        self._look_at(*self._areas[item.data(0, Qt.ItemDataRole.UserRole)])


@page("Overdraw", 20)
class OverdrawPage(FramePage):
    """Answer sentence, the table of passes and steps, then findings and the pixel stack."""

    def __init__(self, workspace: Workspace, _settings: QSettings) -> None:
        super().__init__(workspace, "How often is each pixel shaded, and which draws are visible?")
        self.table = PassTable(self._columns(), "Overdraw of passes and steps")
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
            answer, evidence = overdraw_answer(document.drawn, document.frame.passes.names)
            caveats = "".join(f" {c[:1].upper()}{c[1:]}." for c in document.drawn.caveats)
            self.say(answer, evidence + caveats)

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

        def of_pass(name: str):  # type: ignore[no-untyped-def]
            def value(index: int) -> float | None:
                assert self._document is not None and self._document.drawn is not None
                return float(getattr(self._document.drawn.passes[index], name))

            return value

        def counted(name: str):  # type: ignore[no-untyped-def]
            def value(step: int) -> float | None:
                row = drawn(step)
                return float(getattr(row, name)) if row.fragments >= 0 and row.kind != "clear" else None

            return value

        def pass_waste(index: int) -> float | None:
            assert self._document is not None
            table = self._document.frame.passes
            values = [step_waste(s) for s in range(int(table.first[index]), int(table.end[index]))]
            known = [v for v in values if v is not None]
            return sum(known) if known else None

        def step_waste(step: int) -> float | None:
            survey = self._document.survey if self._document else None
            return survey.steps.ms[step] * drawn(step).wasted_share if survey and drawn(step).kind != "clear" else None

        count = "{:,.0f}".format
        return [
            Column(
                "~ waste, ms",
                pass_waste,
                step_waste,
                "{:.2f}".format,
                104,
                tip="Estimated: time alone by the wasted share of the fragments",
            ),
            Column(
                "wasted",
                of_pass("wasted_share"),
                counted("wasted_share"),
                share,
                72,
                True,
                "Share of fragments covered later, or blended without a change",
            ),
            Column(
                "layers",
                of_pass("average"),
                lambda _step: None,
                "{:.2f}".format,
                64,
                tip="Average over the pixels that the pass draws to",
            ),
            Column("fragments", of_pass("fragments"), counted("fragments"), count, 88, tip="That passed all tests"),
        ]
