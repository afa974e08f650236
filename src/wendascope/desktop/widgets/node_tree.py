"""A tree of rows that are made when their parent is opened, some hundred at a time: for tables of any size."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from typing import Any

from PySide6.QtCore import QAbstractItemModel, QModelIndex, QPersistentModelIndex, Qt, Signal
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QAbstractItemView, QHeaderView, QTreeView

from wendascope.desktop.widgets.copying import CopiesText
from wendascope.desktop.widgets.plain import plain_tip
from wendascope.desktop.widgets.room import Taken, hide_what_gives_way
from wendascope.desktop.widgets.theme import figures_font
from wendascope.texts import visible

Index = QModelIndex | QPersistentModelIndex
_AT_ONCE = 400
_LEAST_NAME = 200


class Node:
    """One row: a text for each column, and what its children come from. `thing` is what it stands for."""

    __slots__ = ("_source", "children", "count", "parent", "row", "texts", "thing")

    def __init__(
        self, texts: list[str], thing: Any = None, count: int = 0, children: Callable[[], Iterator[Node]] | None = None
    ) -> None:
        self.texts, self.thing, self.count = texts, thing, count
        self._source: Callable[[], Iterator[Node]] | Iterator[Node] | None = children
        self.children: list[Node] = []
        self.parent: Node | None = None
        self.row = 0

    def take(self, many: int) -> list[Node]:
        """Make the next children."""
        if self._source is None:
            return []
        if callable(self._source):
            self._source = self._source()
        found: list[Node] = []
        for child in self._source:
            child.parent, child.row = self, len(self.children) + len(found)
            found.append(child)
            if len(found) == many:
                break
        return found


class NodeModel(QAbstractItemModel):
    """`count` of a node says how many children it has, before they are made."""

    def __init__(self, titles: list[str], tips: dict[int, str] | None = None) -> None:
        super().__init__()
        self.titles, self._tips = titles, tips or {}
        self.root = Node([])

    def show_root(self, root: Node) -> None:
        self.beginResetModel()
        self.root = root
        root.children += root.take(root.count)
        self.endResetModel()

    def node(self, index: Index) -> Node:
        return index.internalPointer() if index.isValid() else self.root

    def index(self, row: int, column: int, parent: Index = QModelIndex()) -> QModelIndex:  # noqa: B008
        children = self.node(parent).children
        return self.createIndex(row, column, children[row]) if 0 <= row < len(children) else QModelIndex()

    def parent(self, child: Index) -> QModelIndex:  # type: ignore[override]
        owner = self.node(child).parent if child.isValid() else None
        return QModelIndex() if owner is None or owner is self.root else self.createIndex(owner.row, 0, owner)

    def rowCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        return 0 if parent.column() > 0 else len(self.node(parent).children)

    def columnCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        return len(self.titles)

    def hasChildren(self, parent: Index = QModelIndex()) -> bool:  # noqa: B008
        return parent.column() <= 0 and self.node(parent).count > 0

    def canFetchMore(self, parent: Index) -> bool:
        node = self.node(parent)
        return len(node.children) < node.count

    def fetchMore(self, parent: Index) -> None:
        node = self.node(parent)
        more = node.take(_AT_ONCE)
        if not more:
            node.count = len(node.children)
            return
        self.beginInsertRows(parent, len(node.children), len(node.children) + len(more) - 1)
        node.children += more
        self.endInsertRows()

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if orientation != Qt.Orientation.Horizontal:
            return None
        if role == Qt.ItemDataRole.DisplayRole:
            return self.titles[section]
        if role == Qt.ItemDataRole.TextAlignmentRole:
            return Qt.AlignmentFlag.AlignVCenter | (
                Qt.AlignmentFlag.AlignRight if section else Qt.AlignmentFlag.AlignLeft
            )
        return self._tips.get(section) if role == Qt.ItemDataRole.ToolTipRole else None

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        texts = self.node(index).texts
        if role == Qt.ItemDataRole.DisplayRole:
            return visible(texts[index.column()]) if index.column() < len(texts) else ""
        if role == Qt.ItemDataRole.ToolTipRole and index.column() == 0:
            return plain_tip(texts[0])
        if role == Qt.ItemDataRole.TextAlignmentRole and index.column():
            return Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        return None


class NodeTree(CopiesText, QTreeView):
    """The view: `chosen` tells the node of the current row."""

    chosen = Signal(object)

    def __init__(
        self, titles: list[str], widths: list[int], name: str, tips: dict[int, str] | None = None,
        gives_way: Sequence[int] = (),
    ) -> None:  # fmt: skip
        """`gives_way` are columns that are left out where names have no room, the last first."""
        super().__init__()
        self._columns = [Taken(number, width, number in gives_way) for number, width in enumerate(widths, 1)]
        self.nodes = NodeModel(titles, tips)
        self.setModel(self.nodes)
        self.setUniformRowHeights(True)
        self.setIndentation(12)
        self.setFont(figures_font())
        self.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        self.setAccessibleName(name)
        header = self.header()
        header.setStretchLastSection(False)
        header.setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        for column, width in enumerate(widths, 1):
            header.resizeSection(column, width)
        self.selectionModel().currentChanged.connect(
            lambda now, _before: self.chosen.emit(self.nodes.node(now)) if now.isValid() else None
        )

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        hide_what_gives_way(self, self._columns, _LEAST_NAME)

    def show_root(self, root: Node) -> None:
        self.nodes.show_root(root)

    @property
    def current(self) -> Node | None:
        index = self.currentIndex()
        return self.nodes.node(index) if index.isValid() else None

    def as_text(self) -> str:
        """Selected rows, or all of the first level, with the header, tab-separated."""
        rows = self.selectionModel().selectedRows() or [self.nodes.index(r, 0) for r in range(self.nodes.rowCount())]
        return "\n".join("\t".join(line) for line in [self.nodes.titles, *(self.nodes.node(row).texts for row in rows)])
