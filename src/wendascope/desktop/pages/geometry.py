"""The Geometry page: is the geometry right-sized for its place on screen?"""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QSettings

from wendascope.analysis.geometry.drawn import StepDrawn
from wendascope.analysis.time.answers import geometry_answer, lost_to_size
from wendascope.analysis.time.shares import triangle_parts
from wendascope.desktop.models.document import Document, Workspace
from wendascope.desktop.models.tree import FrameTree, Node
from wendascope.desktop.pages._following import FramePage
from wendascope.desktop.pages._registry import page
from wendascope.desktop.views.findings_view import FindingsView
from wendascope.desktop.views.mesh_view import MeshPanel
from wendascope.desktop.views.step_tree import Column, StepTree
from wendascope.texts import share, three_digits

Number = Callable[[StepDrawn], float]
Value = Callable[[FrameTree, Node], float | None]


@page("Geometry", 30)
class GeometryPage(FramePage):
    """Answer sentence, the table of passes and steps, then findings and the mesh of the selected step."""

    guide = "overdraw"
    stages = ("coverage",)
    picture_share = 0.54
    under_share = 0.28

    def __init__(self, workspace: Workspace, _settings: QSettings) -> None:
        super().__init__(workspace, "Is the geometry right-sized for its place on screen?")
        self.table = StepTree(workspace, self._columns(), "Geometry of passes and steps")
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
            self.say(answer, evidence + unknown, triangle_parts(document.drawn))

    def _rows(self, node: Node) -> list[StepDrawn]:
        """What is known of the triangles of a node's steps."""
        assert self._document is not None and self._document.drawn is not None
        drawn = self._document.drawn.steps
        return [drawn[step] for step in node.steps.tolist() if drawn[step].triangles >= 0]

    def _sum(self, number: Number) -> Value:
        def value(_tree: FrameTree, node: Node) -> float | None:
            rows = self._rows(node)
            return sum(number(row) for row in rows) if rows else None

        return value

    def _ratio(self, above: Number, below: Number) -> Value:
        """Of the sums, not a sum of ratios; nothing over nothing is shown empty."""

        def value(_tree: FrameTree, node: Node) -> float | None:
            rows = self._rows(node)
            total = sum(below(row) for row in rows)
            return sum(above(row) for row in rows) / total if total > 0 else None

        return value

    def _columns(self) -> list[Column]:
        count = "{:,.0f}".format
        return [
            Column("triangles", self._sum(lambda r: r.triangles), count, 96, tip="Submitted, instances included"),
            Column(
                "no sample",
                self._ratio(lambda r: r.no_sample, lambda r: r.drawn),
                share,
                88,
                True,
                "Of those rasterised: too small to cover a sample. Guideline: 5 %",
            ),
            Column(
                "partial",
                self._ratio(lambda r: r.partial, lambda r: r.drawn),
                share,
                64,
                True,
                "Of those rasterised: covering no whole pixel. Guideline: 10 %",
            ),
            Column(
                "px / tri",
                self._ratio(lambda r: r.covered, lambda r: r.drawn),
                three_digits,
                64,
                tip="Pixels covered for each triangle seen, before any test",
                gives_way=True,
            ),
            Column(
                "vert / tri",
                self._ratio(lambda r: max(r.transformed, 0), lambda r: r.triangles),
                "{:.2f}".format,
                72,
                tip="Vertices run for each triangle; cache of 32, first in first out",
                gives_way=True,
            ),
        ]
