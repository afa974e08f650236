"""The Time page: is the frame over budget, who is late, and where does the time go?"""

from __future__ import annotations

import functools

from PySide6.QtCore import QPoint, QSettings, Qt
from PySide6.QtWidgets import QMenu, QMessageBox, QToolButton, QVBoxLayout

from wendascope.analysis.time.frame_bound import frame_bound
from wendascope.desktop.models.document import Document, Workspace
from wendascope.desktop.models.tree import FrameTree, Node
from wendascope.desktop.pages._registry import Page, page
from wendascope.desktop.views.step_tree import Column, StepTree
from wendascope.desktop.widgets.answer import answer_labels, details_label, labelled
from wendascope.desktop.widgets.theme import GRID
from wendascope.errors import FileError
from wendascope.frame.roles import Role
from wendascope.measure.certainty import doubts
from wendascope.texts import three_digits
from wendascope.trials.proofs.proof import newest_together


def _columns() -> list[Column]:
    count = "{:,.0f}".format

    def interval(tree: FrameTree, node: Node) -> str:
        found = tree.interval(node)
        return "" if found is None else f"{three_digits(found[0])}–{three_digits(found[1])}"

    def fragments(tree: FrameTree, node: Node) -> float | None:
        known = tree.survey is not None and tree.survey.fragments is not None
        return tree.total("fragments", node) if known else None

    return [
        Column(
            "steps",
            lambda _tree, node: float(len(node.steps)),
            count,
            48,
            soft=True,
            written=lambda _tree, node: "" if node.kind == "step" else f"{len(node.steps):,}",
        ),
        Column(
            "ms",
            FrameTree.ms,
            three_digits,
            64,
            tip="Measured: a pass timed whole, a step timed alone, a group the sum of its steps alone",
        ),
        Column(
            "interval, ms",
            FrameTree.ms,
            three_digits,
            104,
            gives_way=True,
            tip="The median lies in here with at least 95 %",
            soft=True,
            written=interval,
        ),
        Column(
            "share",
            FrameTree.share,
            lambda part: f"{100 * part:.1f} %",
            64,
            True,
            "Of a pass: of all pass times. Of other rows: of the steps, alone, of the outermost row that they are in",
        ),
        Column(
            "triangles",
            lambda tree, node: tree.total("triangles", node),
            count,
            80,
            tip="Instances included",
            gives_way=True,
        ),
        Column("fragments", fragments, count, 88, tip="That passed all tests and were written"),
    ]


@page("Time", 0)
class TimePage(Page):
    """Answer sentence, then the tree of passes and steps."""

    guide = "which-pass"
    picture_share = 0.5
    under_share = 0.34

    def __init__(self, workspace: Workspace, _settings: QSettings) -> None:
        super().__init__()
        self._workspace = workspace
        self._document: Document | None = None
        self._following = False
        question, self.answer, self.evidence = answer_labels("Is the frame over budget, and where does its time go?")
        self.evidence.setTextFormat(Qt.TextFormat.RichText)
        self.more = QToolButton()
        self.more.setText("How we know")
        self.more.setCheckable(True)
        self.more.setAutoRaise(True)
        self.more.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextBesideIcon)
        self.more.setArrowType(Qt.ArrowType.RightArrow)
        self.details = details_label()
        self.more.toggled.connect(lambda _on: self._say())
        self.table = StepTree(workspace, _columns(), "Time of passes and steps", sort=2)
        self.table.view.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        self.table.view.customContextMenuRequested.connect(self._role_menu)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(2 * GRID, GRID, GRID, GRID)
        layout.setSpacing(GRID)
        layout.addWidget(question)
        layout.addWidget(self.answer)
        layout.addWidget(self.evidence)
        layout.addWidget(self.more)
        layout.addWidget(self.details)
        layout.addWidget(self.table, 1)
        workspace.listen(self._refresh)
        self._refresh()

    def _role_menu(self, at: QPoint) -> None:
        """Roles to choose for the pass under the pointer."""
        view = self.table.view
        index = view.indexAt(at)
        node = view.rows.node(index) if index.isValid() else None
        if node is None or node.kind != "pass" or self._document is None:
            return
        document, mine = self._document, self._document.frame.pass_roles[node.pass_index]
        menu = QMenu(self)
        menu.addSection(f"{mine.role.value}: {' '.join(mine.evidence)}")
        for role in Role:
            action = menu.addAction(
                role.value, functools.partial(self._give_role, document, node.pass_index, role.value)
            )
            action.setCheckable(True)
            action.setChecked(role == mine.role)
        menu.addSeparator()
        menu.addAction("Work it out again", functools.partial(self._give_role, document, node.pass_index, ""))
        menu.exec(view.viewport().mapToGlobal(at))

    def _give_role(self, document: Document, index: int, role: str) -> None:
        try:
            document.give_role(index, role)
        except FileError as error:
            QMessageBox.warning(self, "The role is not kept in the file", str(error))

    # ---- the page protocol ----------------------------------------------------------------------------

    def figure(self) -> str:
        document = self._workspace.current
        verdict = document.verdict(self._workspace.budget_ms) if document else None
        return "" if verdict is None else f"{verdict.ratio:.1f}x"

    # ---- following the model -----------------------------------------------------------------------------

    def _refresh(self) -> None:
        document = self._workspace.current
        if document is not self._document:
            self._document = document
            if document is not None:
                document.listen(self._measured)
        self._measured()

    def _measured(self) -> None:
        self.table.show_document(self._workspace.current)
        self._say()

    def _say(self) -> None:
        document = self._document
        if document is None:
            self.answer.setText("")
            self.evidence.setText("")
            self.more.hide()
            self.details.hide()
            return
        verdict = document.verdict(self._workspace.budget_ms)
        if verdict is None or document.survey is None:
            self.answer.setText("Not measured yet.")
            frame = document.frame
            bound = frame_bound(frame)
            own = f" {bound.sentence}" if bound else ""
            self.evidence.setText(
                f"Press Ctrl+M to time the frame, its {len(frame.passes)} passes and its {len(frame.steps):,}"
                f" steps.{own}"
            )
            self.more.hide()
            self.details.hide()
            return
        self.answer.setText(verdict.sentence)
        self.evidence.setText(labelled(_facts(document, verdict.numbers)))
        self.evidence.setToolTip(f"Clock: {document.survey.calibration.reason}")
        details = _details(document)
        self.details.setText(labelled(details))
        self.more.setVisible(bool(details))
        self.more.setArrowType(Qt.ArrowType.DownArrow if self.more.isChecked() else Qt.ArrowType.RightArrow)
        self.details.setVisible(self.more.isChecked() and bool(details))

    def focus_search(self) -> None:
        self.table.focus_search()


def _facts(document: Document, numbers: str) -> list[tuple[str, str]]:
    """What the answer follows from, at a glance."""
    survey = document.survey
    assert survey is not None
    frame, cpu = survey.frame_ms, survey.cpu
    combined = newest_together(document.proofs)
    return [
        ("frame", numbers),
        ("GPU work", f"{frame.median:.1f} ms when replayed ({frame.low:.1f} to {frame.high:.1f})"),
        ("CPU", f"{cpu.calls_ms + cpu.program_ms:.1f} ms of the program's thread, waits excluded"),
        ("proved", combined.together_summary if combined is not None and combined.ratio is not None else ""),
        *(("caution", doubt) for doubt in doubts(survey)),
        (
            "caution",
            ""
            if survey.verification.identical
            else "the replay differs from the captured picture: these times are of a frame that is not quite that one",
        ),
    ]


def _details(document: Document) -> list[tuple[str, str]]:
    """How that was measured, and who bounds the frame by what the running program showed."""
    survey, bound = document.survey, frame_bound(document.frame)
    if survey is None:
        return []
    return [
        ("measured", f"by {survey.method} in {survey.repeats} repeats; {survey.calibration.reason}"),
        ("bound by", bound.sentence if bound is not None else ""),
    ]
