"""The Geometry page: is the geometry right-sized for its place on screen?"""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QSettings

from wendascope.analysis.answers import geometry_answer, lost_to_size
from wendascope.analysis.drawn import StepDrawn
from wendascope.desktop.findings_view import FindingsView
from wendascope.desktop.mesh_view import MeshPanel
from wendascope.desktop.models.document import Document, Workspace
from wendascope.desktop.pages._following import FramePage
from wendascope.desktop.pages._registry import page
from wendascope.desktop.pass_table import Column, PassTable
from wendascope.texts import share

Number = Callable[[StepDrawn], float]


@page("Geometry", 30)
class GeometryPage(FramePage):
    """Answer sentence, the table of passes and steps, then findings and the mesh of the selected step."""

    def __init__(self, workspace: Workspace, _settings: QSettings) -> None:
        super().__init__(workspace, "Is the geometry right-sized for its place on screen?")
        self.table = PassTable(self._columns(), "Geometry of passes and steps")
        self.findings = FindingsView(workspace, "Geometry")
        self.mesh = MeshPanel(workspace)
        self.tabs = self.split(self.table, [("Findings", self.findings), ("Mesh", self.mesh)])
        self.follow()

    def figure(self) -> str:
        document = self._workspace.current
        return "" if document is None or document.drawn is None else f"{share(lost_to_size(document.drawn))}"

    def opened(self, document: Document | None) -> None:
        self.mesh.show_document(document)

    def refresh(self, document: Document | None) -> None:
        self.table.show_document(document if document and document.drawn else None)
        self.findings.show_document(document)
        if document is None:
            self.say("")
        elif document.drawn is None:
            self.say("Not measured yet.", "Press Ctrl+M to gather the positions of every step.")
        else:
            answer, evidence = geometry_answer(document.drawn)
            unknown = "".join(f" {c[:1].upper()}{c[1:]}." for c in document.drawn.caveats if "positions" in c)
            self.say(answer, evidence + unknown)

    def _rows(self, index: int) -> list[StepDrawn]:
        assert self._document is not None and self._document.drawn is not None
        table = self._document.frame.passes
        return [
            row
            for row in self._document.drawn.steps[int(table.first[index]) : int(table.end[index])]
            if row.triangles >= 0
        ]

    def _row(self, step: int) -> StepDrawn:
        assert self._document is not None and self._document.drawn is not None
        return self._document.drawn.steps[step]

    def _sum(self, number: Number) -> tuple[Callable[[int], float | None], Callable[[int], float | None]]:
        def of_pass(index: int) -> float | None:
            rows = self._rows(index)
            return sum(number(row) for row in rows) if rows else None

        def of_step(step: int) -> float | None:
            return number(self._row(step)) if self._row(step).triangles >= 0 else None

        return of_pass, of_step

    def _ratio(
        self, above: Number, below: Number
    ) -> tuple[Callable[[int], float | None], Callable[[int], float | None]]:
        """Of the sums, not a sum of ratios; nothing over nothing is shown empty."""

        def of_pass(index: int) -> float | None:
            total = sum(below(row) for row in self._rows(index))
            return sum(above(row) for row in self._rows(index)) / total if total > 0 else None

        def of_step(step: int) -> float | None:
            row = self._row(step)
            return above(row) / below(row) if row.triangles >= 0 and below(row) > 0 else None

        return of_pass, of_step

    def _columns(self) -> list[Column]:
        count = "{:,.0f}".format
        return [
            Column("triangles", *self._sum(lambda r: r.triangles), count, 96, tip="Submitted, instances included"),
            Column(
                "no sample",
                *self._ratio(lambda r: r.no_sample, lambda r: r.drawn),
                share,
                88,
                True,
                "Of those rasterised: too small to cover a sample. Guideline: 5 %",
            ),
            Column(
                "partial",
                *self._ratio(lambda r: r.partial, lambda r: r.drawn),
                share,
                64,
                True,
                "Of those rasterised: covering no whole pixel. Guideline: 10 %",
            ),
            Column(
                "px / tri",
                *self._ratio(lambda r: r.covered, lambda r: r.drawn),
                "{:.3g}".format,
                64,
                tip="Pixels covered for each triangle seen, before any test",
            ),
            Column(
                "vert / tri",
                *self._ratio(lambda r: max(r.transformed, 0), lambda r: r.triangles),
                "{:.2f}".format,
                72,
                tip="Vertices run for each triangle; cache of 32, first in first out",
            ),
        ]
