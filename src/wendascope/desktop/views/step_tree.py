"""The tree of groups and steps, with columns that a page chooses, a search line and the choice of what to group by."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

from PySide6.QtCore import QAbstractItemModel, QModelIndex, QPersistentModelIndex, Qt
from PySide6.QtGui import QColor, QResizeEvent
from PySide6.QtWidgets import (
    QAbstractItemView,
    QComboBox,
    QHBoxLayout,
    QHeaderView,
    QLineEdit,
    QTreeView,
    QVBoxLayout,
    QWidget,
)

from wendascope.desktop.charts.share_bar import BAR, ShareDelegate
from wendascope.desktop.models.document import Document, Workspace
from wendascope.desktop.models.tree import DRAW_ORDER, TREES, FrameTree, Node
from wendascope.desktop.widgets.copying import CopiesText
from wendascope.desktop.widgets.plain import Label, plain_tip
from wendascope.desktop.widgets.room import Taken, hide_what_gives_way
from wendascope.desktop.widgets.theme import GRID, figures_font, group_colour, theme
from wendascope.desktop.widgets.thumbnails import SIZE, thumbnail, thumbnail_tip
from wendascope.frame.notes import Subject
from wendascope.texts import capital, visible

Index = QModelIndex | QPersistentModelIndex
_MOST_OPENED = 400
"""Steps found by a search up to which all rows that hold them are opened."""

_LEAST_NAME = 22 * GRID
"""Pixels for the names of rows, before columns give way."""


@dataclass(frozen=True)
class Column:
    """One column: its title with the unit, and how values become text. Values of None are shown empty."""

    title: str
    value: Callable[[FrameTree, Node], float | None]
    """What it sorts by, and what `text` is made of."""
    text: Callable[[float], str]
    width: int = 80
    share: bool = False
    """Draw a bar behind the figure."""
    tip: str = ""
    soft: bool = False
    """In softer ink."""
    written: Callable[[FrameTree, Node], str] | None = None
    """The whole text of a cell, where it is more than its value."""
    gives_way: bool = False
    """Hidden where there is no room for it beside names."""


class StepTreeModel(QAbstractItemModel):
    """A frame tree for Qt. No object per row is made until its parent is opened."""

    def __init__(self, columns: Sequence[Column]) -> None:
        super().__init__()
        self.columns = list(columns)
        self.tree: FrameTree | None = None
        self.document: Document | None = None
        self._sorted: tuple[int, Qt.SortOrder] = (-1, Qt.SortOrder.AscendingOrder)

    def set_tree(self, document: Document | None, tree: FrameTree | None) -> None:
        self.beginResetModel()
        self.document, self.tree = document, tree
        self._sort_tree()
        self.endResetModel()

    def search(self, text: str) -> int:
        self.beginResetModel()
        found = self.tree.search(text) if self.tree else 0
        self.endResetModel()
        return found

    def sort(self, column: int, order: Qt.SortOrder = Qt.SortOrder.AscendingOrder) -> None:
        self.beginResetModel()
        self._sorted = (column, order)
        self._sort_tree()
        self.endResetModel()

    def _sort_tree(self) -> None:
        column, order = self._sorted
        tree = self.tree
        if tree is None or column < 0:
            return

        def key(node: Node) -> float:
            found = self.columns[column - 1].value(tree, node)
            return -1.0 if found is None else found

        tree.sort(key if column else None, order == Qt.SortOrder.DescendingOrder)

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
        return node is not None and node.kind != "step" and len(node.steps) > 0

    def columnCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        return 1 + len(self.columns)

    @property
    def _first_title(self) -> str:
        by = self.tree.by if self.tree else "pass"
        return f"{'pass' if by == DRAW_ORDER else by} / step"

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if orientation != Qt.Orientation.Horizontal:
            return None
        if role == Qt.ItemDataRole.DisplayRole:
            column, order = self._sorted
            mark = "" if section != column else " ↓" if order == Qt.SortOrder.DescendingOrder else " ↑"
            return (self.columns[section - 1].title if section else self._first_title) + mark
        if role == Qt.ItemDataRole.TextAlignmentRole:
            return Qt.AlignmentFlag.AlignVCenter | (
                Qt.AlignmentFlag.AlignRight if section else Qt.AlignmentFlag.AlignLeft
            )
        if role == Qt.ItemDataRole.ToolTipRole and section:
            return self.columns[section - 1].tip or None
        return None

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        node = self.node(index)
        if node is None or self.tree is None:
            return None
        at = index.column()
        if role == Qt.ItemDataRole.DisplayRole:
            return visible(self.text(node, at))
        if at == 0:
            return self._decoration(node, role)
        column = self.columns[at - 1]
        if role == Qt.ItemDataRole.TextAlignmentRole:
            return Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        if role == BAR and column.share:
            share = column.value(self.tree, node)
            return None if share is None else (share, True)
        if role == Qt.ItemDataRole.ForegroundRole and column.soft:
            return QColor(theme().soft)
        return None

    def _decoration(self, node: Node, role: int) -> Any:
        """The colour that a row of the first level has in the strip; passes have their picture beside it."""
        top = self.tree is not None and node.parent is self.tree.root and node.kind != "step"
        if role == Qt.ItemDataRole.DecorationRole and top:
            colour = group_colour(node)
            return thumbnail(self.document, node.pass_index, colour) if node.kind == "pass" else colour
        if role == Qt.ItemDataRole.ToolTipRole:
            label = "\n".join(filter(None, [node.label, self._note(node)]))
            return thumbnail_tip(self.document, node.pass_index, label) if node.kind == "pass" else plain_tip(label)
        return None

    def _note(self, node: Node) -> str:
        """What somebody wrote on what a row stands for."""
        if self.document is None or not self.document.notes or node.kind not in ("step", "pass"):
            return ""
        number = node.first if node.kind == "step" else node.pass_index
        return self.document.notes.get(Subject("step" if node.kind == "step" else "pass", str(number)), "")

    def text(self, node: Node, column: int) -> str:
        """One cell as it is shown and copied."""
        assert self.tree is not None
        if column == 0:
            label = f"{node.first}  {node.label}" if node.kind == "step" else node.label
            return f"{label} (note)" if self._note(node) else label
        chosen = self.columns[column - 1]
        if chosen.written is not None:
            return chosen.written(self.tree, node)
        value = chosen.value(self.tree, node)
        return "" if value is None else chosen.text(value)

    def repaint_pictures(self) -> None:
        """After pictures of passes have come."""
        if self.rowCount():
            self.dataChanged.emit(self.index(0, 0), self.index(self.rowCount() - 1, 0))


class StepTreeView(CopiesText, QTreeView):
    """The tree, with rows that can be copied."""

    def __init__(self, columns: Sequence[Column], name: str) -> None:
        super().__init__()
        self.rows = StepTreeModel(columns)
        self.setModel(self.rows)
        self.setUniformRowHeights(True)
        self.setIconSize(SIZE)
        self.setIndentation(12)
        self.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        self.setSortingEnabled(True)
        self.setFont(figures_font())
        self.setAccessibleName(name)
        header = self.header()
        header.setSortIndicatorShown(False)  # the mark stands in the title, where it covers no text
        header.setStretchLastSection(False)
        header.setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        header.setMinimumSectionSize(5 * GRID)
        for number, column in enumerate(columns, 1):
            header.resizeSection(number, column.width)
            if column.share:
                self.setItemDelegateForColumn(number, ShareDelegate(self))

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        columns = [Taken(number, c.width, c.gives_way) for number, c in enumerate(self.rows.columns, 1)]
        hide_what_gives_way(self, columns, _LEAST_NAME)

    def as_text(self) -> str:
        """Selected rows, or all of the first level when none is selected, with the header, tab-separated."""
        model = self.rows
        rows = self.selectionModel().selectedRows() or [model.index(r, 0) for r in range(model.rowCount())]
        nodes = [node for row in rows if (node := model.node(row))]
        titles = [model._first_title, *(c.title for c in model.columns)]
        return "\n".join(
            "\t".join(line)
            for line in [titles, *([model.text(node, at) for at in range(len(titles))] for node in nodes)]
        )


class StepTree(QWidget):
    """Search line and grouping above the tree. It follows the selection of a document and chooses in it."""

    def __init__(self, workspace: Workspace, columns: Sequence[Column], name: str, sort: int = 1) -> None:
        """`sort` is the column that is sorted by at first, the largest on top."""
        super().__init__()
        self._workspace = workspace
        self._document: Document | None = None
        self._following = False
        self.search = QLineEdit()
        self.search.setPlaceholderText("Find: words of names, program 3, step 417")
        self.search.setAccessibleName("Find passes and steps")
        self.search.setClearButtonEnabled(True)
        self.search.textChanged.connect(self._search)
        self.found = Label()
        self.found.hide()
        self.by = QComboBox()
        self.by.setAccessibleName("Group by")
        self.by.setToolTip("What rows of this table and of the frame strip are grouped by")
        for what in TREES:
            self.by.addItem(capital(what), what)
        self.by.currentIndexChanged.connect(lambda _index: workspace.set_grouping(self.by.currentData()))
        self.view = StepTreeView(columns, name)
        self.model = self.view.rows
        self.view.sortByColumn(sort, Qt.SortOrder.DescendingOrder)  # the most expensive first
        self.view.selectionModel().currentChanged.connect(self._chosen)
        row = QHBoxLayout()
        row.addWidget(self.search, 1)
        row.addWidget(self.found)
        row.addWidget(Label("by"))
        row.addWidget(self.by)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(GRID)
        layout.addLayout(row)
        layout.addWidget(self.view, 1)

    def show_document(self, document: Document | None) -> None:
        """Follow a document; called again when what was measured on it, or what is grouped by, changes."""
        if document is not self._document and document is not None:
            document.selection.listen(self._follow)
            document.pass_pictures.listen(self.model.repaint_pictures)
        self._document = document
        by = self._workspace.grouping
        self.by.setCurrentIndex(self.by.findData(by))
        self.model.set_tree(document, FrameTree(document.frame, document.survey, by) if document else None)
        if self.search.text():
            self._search(self.search.text())
        self._follow()

    def _search(self, text: str) -> None:
        count = self.model.search(text)
        if text.strip() and self._document is not None:
            self.found.show()
            self.found.setText(f"{count:,} of {len(self._document.frame.steps):,} steps")
            if count <= _MOST_OPENED:
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
        self._document.selection.choose_row(node)

    def _follow(self) -> None:
        """Show the selection, opening what hides it, unless the chosen row already stands for it."""
        if self._document is None or self.model.tree is None:
            return
        step = self._document.selection.step
        current = self.view.currentIndex()
        node = self.model.node(current) if current.isValid() else None
        if step is None or (node is not None and node.last == step):
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
