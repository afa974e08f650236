"""The Time page: is the frame over budget, who is late, and where does the time go?"""

from __future__ import annotations

import functools
from typing import Any

from PySide6.QtCore import QAbstractItemModel, QModelIndex, QPersistentModelIndex, QPoint, QSettings, Qt
from PySide6.QtGui import QColor
from PySide6.QtWidgets import (
    QAbstractItemView,
    QHBoxLayout,
    QHeaderView,
    QLabel,
    QLineEdit,
    QMenu,
    QMessageBox,
    QToolButton,
    QTreeView,
    QVBoxLayout,
)

from wendascope.analysis.late import frame_bound
from wendascope.desktop.answer import answer_labels, details_label, labelled
from wendascope.desktop.copying import CopiesText
from wendascope.desktop.models.document import Document, Workspace
from wendascope.desktop.models.tree import FrameTree, Node
from wendascope.desktop.pages._registry import Page, page
from wendascope.desktop.share_bar import BAR, ShareDelegate
from wendascope.desktop.theme import GRID, figures_font, pass_colour, theme
from wendascope.errors import FileError
from wendascope.frame.roles import Role
from wendascope.trials.proof import COMBINED

Index = QModelIndex | QPersistentModelIndex
COLUMNS = (
    ("name", "pass / step"), ("steps", "steps"), ("ms", "ms"), ("interval", "interval, ms"), ("share", "share"),
    ("triangles", "triangles"), ("fragments", "fragments"),
)  # fmt: skip
_WIDTHS = {"steps": 48, "ms": 72, "interval": 120, "share": 64, "triangles": 72, "fragments": 80}


class TreeModel(QAbstractItemModel):
    """The frame tree for Qt. No object per row is made until its parent is opened."""

    def __init__(self) -> None:
        super().__init__()
        self.tree: FrameTree | None = None
        self._sorted: tuple[int, Qt.SortOrder] = (-1, Qt.SortOrder.AscendingOrder)

    def set_tree(self, tree: FrameTree | None) -> None:
        self.beginResetModel()
        self.tree = tree
        self.endResetModel()

    def search(self, text: str) -> int:
        self.beginResetModel()
        found = self.tree.search(text) if self.tree else 0
        self.endResetModel()
        return found

    def sort(self, column: int, order: Qt.SortOrder = Qt.SortOrder.AscendingOrder) -> None:
        self._sorted = (column, order)
        if self.tree and column >= 0:
            self.beginResetModel()
            self.tree.sort(COLUMNS[column][0], order == Qt.SortOrder.DescendingOrder)
            self.endResetModel()

    def node(self, index: Index) -> Node | None:
        if index.isValid():
            return index.internalPointer()  # type: ignore[no-any-return]
        return self.tree.root if self.tree else None

    def index_of(self, node: Node) -> QModelIndex:
        return self.createIndex(node.row, 0, node)

    def index(self, row: int, column: int, parent: Index = QModelIndex()) -> QModelIndex:  # noqa: B008
        node = self.node(parent)
        if self.tree is None or node is None:
            return QModelIndex()
        children = self.tree.children(node)
        return self.createIndex(row, column, children[row]) if 0 <= row < len(children) else QModelIndex()

    def parent(self, index: Index) -> QModelIndex:  # type: ignore[override]
        node = self.node(index) if index.isValid() else None
        if node is None or node.parent is None or node.parent.kind == "root":
            return QModelIndex()
        return self.createIndex(node.parent.row, 0, node.parent)

    def rowCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        if self.tree is None or parent.column() > 0:
            return 0
        node = self.node(parent)
        return len(self.tree.children(node)) if node else 0

    def hasChildren(self, parent: Index = QModelIndex()) -> bool:  # noqa: B008
        node = self.node(parent)
        return node is not None and node.kind != "step" and node.steps > 0

    def columnCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        return len(COLUMNS)

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if orientation != Qt.Orientation.Horizontal:
            return None
        if role == Qt.ItemDataRole.DisplayRole:
            mark = (
                "" if section != self._sorted[0] else " ▾" if self._sorted[1] == Qt.SortOrder.DescendingOrder else " ▴"
            )
            return COLUMNS[section][1] + mark
        if role == Qt.ItemDataRole.TextAlignmentRole:
            return (
                Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter
                if section == 0
                else Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
            )
        if role == Qt.ItemDataRole.ToolTipRole:
            return {
                "ms": "Measured: a pass timed whole, a step timed alone, a group the sum of its steps alone",
                "interval": "The median lies in here with at least 95 %",
                "share": "Of a pass: of all pass times. Of a step or group: of its pass's steps, alone",
                "fragments": "Fragments that passed all tests and were written",
            }.get(COLUMNS[section][0])
        return None

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        node = self.node(index)
        if node is None or self.tree is None:
            return None
        column = COLUMNS[index.column()][0]
        if role == Qt.ItemDataRole.DisplayRole:
            return self.text(node, column)
        if role == Qt.ItemDataRole.TextAlignmentRole and index.column() > 0:
            return Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        if role == BAR and column == "share":
            share = self.tree.share(node)
            return None if share is None else (share, True)
        if role == Qt.ItemDataRole.DecorationRole and index.column() == 0 and node.kind == "pass":
            return pass_colour(node.pass_index)
        if role == Qt.ItemDataRole.ForegroundRole and column in ("interval", "steps"):
            return QColor(theme().soft)
        return None

    def text(self, node: Node, column: str) -> str:
        """One cell as it is shown and copied."""
        assert self.tree is not None
        match column:
            case "name":
                return f"{node.first}  {node.label}" if node.kind == "step" else node.label
            case "steps":
                return "" if node.kind == "step" else f"{node.steps:,}"
            case "ms":
                ms = self.tree.ms(node)
                return "" if ms is None else f"{ms:.3f}"
            case "interval":
                found = self.tree.interval(node)
                return "" if found is None else f"{found[0]:.3f}–{found[1]:.3f}"
            case "share":
                share = self.tree.share(node)
                return "" if share is None else f"{100 * share:.1f} %"
            case "fragments":
                survey = self.tree.survey
                return "" if survey is None or survey.fragments is None else f"{int(self.tree.total(column, node)):,}"
        return f"{int(self.tree.total(column, node)):,}"


class FrameTreeView(CopiesText, QTreeView):
    """The tree, with rows that can be copied."""

    def as_text(self) -> str:
        """Selected rows, or all visible passes when none is selected, with the header, tab-separated."""
        model = self.model()
        assert isinstance(model, TreeModel)
        rows = self.selectionModel().selectedRows() or [model.index(r, 0) for r in range(model.rowCount())]
        nodes = [node for row in rows if (node := model.node(row))]
        lines = [[title for _, title in COLUMNS], *([model.text(node, name) for name, _ in COLUMNS] for node in nodes)]
        return "\n".join("\t".join(line) for line in lines)


@page("Time", 0)
class TimePage(Page):
    """Answer sentence, then the tree of passes and steps."""

    def __init__(self, workspace: Workspace, _settings: QSettings) -> None:
        super().__init__()
        self._workspace = workspace
        self._document: Document | None = None
        self._following = False
        question, self.answer, self.evidence = answer_labels("Is the frame over budget, and where does its time go?")
        self.evidence.setTextFormat(Qt.TextFormat.AutoText)
        self.more = QToolButton()
        self.more.setText("How we know")
        self.more.setCheckable(True)
        self.more.setAutoRaise(True)
        self.more.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextBesideIcon)
        self.more.setArrowType(Qt.ArrowType.RightArrow)
        self.details = details_label()
        self.more.toggled.connect(lambda _on: self._say())
        self.search = QLineEdit()
        self.search.setPlaceholderText("Find passes and steps: words of their names, program 3, step 417")
        self.search.setClearButtonEnabled(True)
        self.search.textChanged.connect(self._search)
        self.found = QLabel()
        self.found.hide()
        self.model = TreeModel()
        self.view = FrameTreeView()
        self.view.setModel(self.model)
        self.view.setUniformRowHeights(True)
        self.view.setIndentation(12)
        self.view.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        self.view.setSortingEnabled(True)
        self.view.setItemDelegateForColumn(4, ShareDelegate(self.view))
        self.view.setFont(figures_font())
        self.view.setAccessibleName("Passes and steps")
        self.view.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        self.view.customContextMenuRequested.connect(self._role_menu)
        header = self.view.header()
        header.setSortIndicatorShown(False)  # the mark stands in the title, where it covers no text
        header.setStretchLastSection(False)
        header.setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        for i, (name, _) in enumerate(COLUMNS):
            if name in _WIDTHS:
                header.resizeSection(i, _WIDTHS[name])
        self.view.sortByColumn(2, Qt.SortOrder.DescendingOrder)  # the most expensive first
        self.view.selectionModel().currentChanged.connect(self._chosen)
        row = QHBoxLayout()
        row.addWidget(self.search, 1)
        row.addWidget(self.found)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(2 * GRID, GRID, GRID, GRID)
        layout.setSpacing(GRID)
        layout.addWidget(question)
        layout.addWidget(self.answer)
        layout.addWidget(self.evidence)
        layout.addWidget(self.more)
        layout.addWidget(self.details)
        layout.addLayout(row)
        layout.addWidget(self.view, 1)
        workspace.listen(self._refresh)
        self._refresh()

    def _role_menu(self, at: QPoint) -> None:
        """Roles to choose for the pass under the pointer."""
        index = self.view.indexAt(at)
        node = self.model.node(index) if index.isValid() else None
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
        menu.exec(self.view.viewport().mapToGlobal(at))

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
                document.selection.listen(self._follow)
            self._measured()
        self._say()

    def _measured(self) -> None:
        document = self._workspace.current
        self.model.set_tree(FrameTree(document.frame, document.survey) if document else None)
        header = self.view.header()
        self.model.sort(header.sortIndicatorSection(), header.sortIndicatorOrder())
        if self.search.text():
            self._search(self.search.text())
        self._say()
        self._follow()

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
        self.evidence.setText(labelled(_facts(document)))
        self.evidence.setToolTip(f"Clock: {document.survey.calibration.reason}")
        details = _details(document)
        self.details.setText(labelled(details))
        self.more.setVisible(bool(details))
        self.more.setArrowType(Qt.ArrowType.DownArrow if self.more.isChecked() else Qt.ArrowType.RightArrow)
        self.details.setVisible(self.more.isChecked() and bool(details))

    def _search(self, text: str) -> None:
        count = self.model.search(text)
        if text.strip() and self._document is not None:
            self.found.show()
            self.found.setText(f"{count:,} of {len(self._document.frame.steps):,} steps")
            if count <= 400:
                self.view.expandAll()
            else:
                self.view.expandToDepth(0)
        else:
            self.found.hide()
        self._follow()

    def _chosen(self, current: QModelIndex, _before: QModelIndex) -> None:
        node = self.model.node(current) if current.isValid() else None
        if node is None or self._document is None or self._following:
            return
        # a pass or group stands for what it ends up with
        self._document.selection.choose(node.end - 1)

    def _follow(self) -> None:
        """Show the selection, opening what hides it, unless the chosen row already stands for it."""
        if self._document is None or self.model.tree is None:
            return
        step = self._document.selection.step
        current = self.view.currentIndex()
        node = self.model.node(current) if current.isValid() else None
        if step is None or (node is not None and node.end - 1 == step):
            return
        found = self.model.tree.find(step)
        if found is None:
            return
        self._following = True
        index = self.model.index_of(found)
        self.view.setCurrentIndex(index)
        self.view.scrollTo(index, QAbstractItemView.ScrollHint.PositionAtCenter)
        self._following = False

    def focus_search(self) -> None:
        self.search.setFocus()
        self.search.selectAll()


def _facts(document: Document) -> list[tuple[str, str]]:
    """What the answer follows from, at a glance."""
    survey = document.survey
    assert survey is not None
    frame, cpu = survey.frame_ms, survey.cpu
    combined = document.proofs.get(COMBINED)
    return [
        ("GPU work", f"{frame.median:.1f} ms when replayed ({frame.low:.1f} to {frame.high:.1f})"),
        ("CPU", f"{cpu.calls_ms + cpu.program_ms:.1f} ms of the program's thread, waits excluded"),
        ("proved", combined.together_summary if combined is not None and combined.ratio is not None else ""),
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
