"""The plan as one list: what can be changed, in groups; each row with tick, bar in the waterfall, and gain."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

from PySide6.QtCore import QModelIndex, QPersistentModelIndex, QPointF, QRect, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QColor, QFont, QFontMetricsF, QPainter, QPalette, QTextLayout, QTextOption
from PySide6.QtWidgets import (
    QApplication,
    QHeaderView,
    QStyle,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QTreeWidget,
    QTreeWidgetItem,
)

from wendascope.advice.recommend import Gain, Recommendation, Section
from wendascope.desktop.charts.waterfall import WaterfallRow, paint_row, today
from wendascope.desktop.widgets.copying import CopiesText
from wendascope.desktop.widgets.plain import plain_tip
from wendascope.desktop.widgets.theme import GRID, figures_font, theme
from wendascope.report.plan import gain_text
from wendascope.texts import memory, plural, visible
from wendascope.trials.plan import Plan

Index = QModelIndex | QPersistentModelIndex
_ROW = Qt.ItemDataRole.UserRole
_WHAT, _BARS, _GAIN = range(3)
_TITLES = ("change", "frame time", "saves")


@dataclass(frozen=True)
class PlanRow:
    """One recommendation as the list shows it."""

    item: Recommendation
    taken: bool = False
    bars: WaterfallRow | None = None
    """None where it stands outside the waterfall."""

    @property
    def can_be_taken(self) -> bool:
        return self.item.section is Section.TIME and not self.item.small

    @property
    def second(self) -> str:
        """Under the title: what it costs the picture, what it takes, and how sure it is."""
        item = self.item
        differs = item.section is Section.QUALITY and item.pixels
        pixels = f"{plural(item.pixels, 'pixel')} by up to {item.largest} of 255" if differs else ""
        return "  \u00b7  ".join(filter(None, [pixels, item.effort, item.state_text]))

    @property
    def gains(self) -> list[str]:
        """One line for each side that gains."""
        item = self.item
        lines = [
            f"{text} {side}" for side, gain in (("GPU", item.gpu), ("CPU", item.cpu)) if (text := short_gain(gain))
        ]
        if item.less_bytes > 0:
            lines.append(memory(item.less_bytes))
        return lines[:2]


@dataclass(frozen=True)
class _Today:
    """The first row: where the frame stands."""

    bars: WaterfallRow


@dataclass(frozen=True)
class PlanGroup:
    """Rows that belong together, under a line that says how many they are and what they come to."""

    section: Section
    title: str
    rows: list[PlanRow] = field(default_factory=list)
    total: str = ""
    opened: bool = True


def short_gain(gain: Gain | None) -> str:
    """A gain without its range."""
    return gain_text(gain).partition(" (")[0]


class PlanList(CopiesText, QTreeWidget):
    """Space or a click on the box ticks a row."""

    chosen = Signal(object)
    """The PlanRow that is current, or None."""
    ticked = Signal(str)
    """The recommendation whose tick was changed."""

    def __init__(self) -> None:
        super().__init__()
        self.plan: Plan | None = None
        self._folded: set[Section] = set()
        self.setColumnCount(3)
        self.setHeaderLabels(list(_TITLES))
        self.setFont(figures_font())
        self.setIndentation(0)
        self.setRootIsDecorated(False)
        self.setItemDelegate(_PlanDelegate(self))
        self.setAccessibleName("Plan")
        self.setVerticalScrollMode(QTreeWidget.ScrollMode.ScrollPerPixel)
        self.setExpandsOnDoubleClick(False)
        header = self.header()
        header.setStretchLastSection(False)
        header.setSectionResizeMode(_WHAT, QHeaderView.ResizeMode.Stretch)
        for column, width in ((_BARS, 170), (_GAIN, 96)):
            header.setSectionResizeMode(column, QHeaderView.ResizeMode.Interactive)
            header.resizeSection(column, width)
        header.sectionResized.connect(lambda *_: self.scheduleDelayedItemsLayout())
        self.currentItemChanged.connect(lambda *_: self.chosen.emit(self.current))
        self.itemClicked.connect(self._clicked)
        self.itemCollapsed.connect(lambda item: self._folded.add(item.data(0, _ROW).section))
        self.itemExpanded.connect(lambda item: self._folded.discard(item.data(0, _ROW).section))

    # ---- what it shows ----------------------------------------------------------------------------------

    def show_groups(self, plan: Plan | None, groups: Sequence[PlanGroup]) -> None:
        """Take everything anew; the current row and what is folded stay."""
        kept, known = self.current, {group.section for group in self.groups}
        self.plan = plan
        self.blockSignals(True)
        self.clear()
        if plan is not None:
            now = QTreeWidgetItem(self, [f"Today: {plan.gpu_ms:.1f} ms GPU, {plan.cpu_ms:.1f} ms CPU", "", ""])
            now.setData(0, _ROW, _Today(today(plan)))
            now.setFlags(Qt.ItemFlag.ItemIsEnabled)
        for group in groups:
            head = QTreeWidgetItem(self, [visible(group.title), "", group.total])
            head.setData(0, _ROW, group)
            for row in group.rows:
                head.addChild(_item_of(row))
            if group.section not in known and not group.opened:
                self._folded.add(group.section)
            head.setExpanded(group.section not in self._folded)
        self.blockSignals(False)
        if kept is None or not self.choose(kept.item.id):
            for first in self.rows[:1]:
                self.choose(first.item.id)
        self.chosen.emit(self.current)

    def _items(self) -> list[QTreeWidgetItem]:
        found: list[QTreeWidgetItem] = []
        for number in range(self.topLevelItemCount()):
            head = self.topLevelItem(number)
            if head is not None:
                found.append(head)
                found += [item for k in range(head.childCount()) if (item := head.child(k)) is not None]
        return found

    @property
    def rows(self) -> list[PlanRow]:
        """In their order, whatever is folded."""
        return [row for item in self._items() if isinstance(row := item.data(0, _ROW), PlanRow)]

    @property
    def groups(self) -> list[PlanGroup]:
        return [group for item in self._items() if isinstance(group := item.data(0, _ROW), PlanGroup)]

    @property
    def current(self) -> PlanRow | None:
        item = self.currentItem()
        row = item.data(0, _ROW) if item is not None else None
        return row if isinstance(row, PlanRow) else None

    def choose(self, recommendation: str) -> bool:
        """Make a recommendation current, and open its group; whether it is here."""
        for item in self._items():
            row = item.data(0, _ROW)
            if isinstance(row, PlanRow) and row.item.id == recommendation:
                self.setCurrentItem(item)
                return True
        return False

    # ---- hands ------------------------------------------------------------------------------------------

    def _clicked(self, item: QTreeWidgetItem, _column: int) -> None:
        row = item.data(0, _ROW)
        if isinstance(row, PlanGroup):
            item.setExpanded(not item.isExpanded())

    def mousePressEvent(self, event: object) -> None:
        index = self.indexAt(event.position().toPoint())  # type: ignore[attr-defined]
        super().mousePressEvent(event)  # type: ignore[arg-type]
        box = self.visualRect(index)
        if index.isValid() and index.column() == _WHAT and event.position().x() < box.left() + 4 * GRID:  # type: ignore[attr-defined]
            self._tick(self.itemFromIndex(index))

    def keyPressEvent(self, event: object) -> None:
        if event.key() == Qt.Key.Key_Space:  # type: ignore[attr-defined]
            item = self.currentItem()
            if item is not None:
                self._clicked(item, 0)
                self._tick(item)  # which makes all rows anew
        else:
            super().keyPressEvent(event)

    def _tick(self, item: QTreeWidgetItem) -> None:
        row = item.data(0, _ROW)
        if isinstance(row, PlanRow) and row.can_be_taken:
            self.ticked.emit(row.item.id)

    def as_text(self) -> str:
        """All rows, tab-separated, with the header."""
        head = "group\tin plan\tchange\tGPU, ms\tCPU, ms\tmemory, bytes\tpixels\tlargest of 255\teffort\tstate"
        lines = [head]
        for group in self.groups:
            for row in group.rows:
                item = row.item
                cells = [
                    group.title, "yes" if row.taken and row.can_be_taken else "", item.title, gain_text(item.gpu),
                    gain_text(item.cpu), str(item.less_bytes or ""), str(item.pixels or ""), str(item.largest or ""),
                    item.effort, item.state_text,
                ]  # fmt: skip
                lines.append("\t".join(cells))
        return "\n".join(lines)


class _PlanDelegate(QStyledItemDelegate):
    """Two lines of title, one of small print; bars; gains."""

    def sizeHint(self, option: QStyleOptionViewItem, index: Index) -> QSize:
        row = index.sibling(index.row(), 0).data(_ROW)
        line = int(QFontMetricsF(option.font).lineSpacing()) + 1
        if isinstance(row, PlanGroup):
            return QSize(10, 2 * line)
        if not isinstance(row, PlanRow):
            return QSize(10, 2 * line + GRID)
        view = self.parent()
        assert isinstance(view, PlanList)
        layout = _wrapped(visible(row.item.title), option.font, view.columnWidth(_WHAT) - 5 * GRID)
        return QSize(10, (layout.lineCount() + 1) * line + 12)

    def paint(self, painter: QPainter, option: QStyleOptionViewItem, index: Index) -> None:
        view, row = self.parent(), index.sibling(index.row(), 0).data(_ROW)
        assert isinstance(view, PlanList)
        self.initStyleOption(option, index)
        text, option.text = option.text, ""
        style = QApplication.style()
        style.drawControl(QStyle.ControlElement.CE_ItemViewItem, option, painter, view)
        chosen = bool(option.state & QStyle.StateFlag.State_Selected)
        palette = option.palette
        ink = palette.color(QPalette.ColorRole.HighlightedText) if chosen else QColor(theme().ink)
        soft = ink if chosen else QColor(theme().soft)
        box: QRect = option.rect
        painter.save()
        painter.setFont(option.font)
        if isinstance(row, PlanGroup):
            self._paint_group(painter, box, index, text)
        elif index.column() == _BARS and row.bars is not None and view.plan is not None:
            paint_row(painter, QRectF(box.adjusted(GRID, 0, -GRID, 0)), row.bars, view.plan)
        elif isinstance(row, PlanRow):
            self._paint_row(painter, box, index.column(), row, ink, soft)
        elif index.column() == _WHAT:
            painter.setPen(ink)
            painter.drawText(box.adjusted(4 * GRID, 0, 0, 0), Qt.AlignmentFlag.AlignVCenter, text)
        painter.restore()

    def _paint_group(self, painter: QPainter, box: QRect, index: Index, text: str) -> None:
        view = self.parent()
        assert isinstance(view, PlanList)
        painter.setPen(QColor(theme().ink))
        if index.column() == _WHAT:
            arrow = "\u25be" if view.itemFromIndex(index).isExpanded() else "\u25b8"
            bold = QFont(painter.font())
            bold.setBold(True)
            painter.setFont(bold)
            painter.drawText(box.adjusted(GRID, 0, 200, -4), Qt.AlignmentFlag.AlignBottom, f"{arrow}  {text}")
        elif index.column() == _GAIN:
            right = Qt.AlignmentFlag.AlignBottom | Qt.AlignmentFlag.AlignRight
            painter.setClipping(False)
            painter.drawText(box.adjusted(-200, 0, -GRID, -4), right, text)
        painter.setPen(QColor(theme().bar))
        painter.drawLine(box.left(), box.bottom(), box.right(), box.bottom())

    def _paint_row(
        self, painter: QPainter, box: QRect, column: int, row: PlanRow, ink: QColor, soft: QColor
    ) -> None:  # fmt: skip
        if column == _WHAT:
            line = QFontMetricsF(painter.font()).lineSpacing() + 1
            left = box.left() + 4 * GRID
            layout = _wrapped(visible(row.item.title), painter.font(), box.width() - 5 * GRID)
            painter.setPen(ink)
            layout.draw(painter, QPointF(left, box.top() + 6.0))
            painter.setPen(soft)
            under = QRectF(left, box.top() + 6.0 + layout.lineCount() * line, box.width() - 5 * GRID, line)
            small = QFontMetricsF(painter.font()).elidedText(row.second, Qt.TextElideMode.ElideRight, under.width())
            painter.drawText(under, Qt.AlignmentFlag.AlignVCenter, small)
        elif column == _GAIN:
            painter.setPen(ink)
            right = Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight
            painter.drawText(box.adjusted(0, 0, -GRID, 0), right, "\n".join(row.gains))


def _item_of(row: PlanRow) -> QTreeWidgetItem:
    item = QTreeWidgetItem([visible(row.item.title), "", ", ".join(row.gains)])
    item.setData(0, _ROW, row)
    item.setToolTip(0, plain_tip(f"{row.item.title}\n{row.item.fold}" if row.item.fold else row.item.title))
    if row.bars is not None:
        item.setToolTip(1, row.bars.words)
        item.setText(1, f"{row.bars.gpu[1]:.1f} ms GPU, {row.bars.cpu[1]:.1f} ms CPU")
    if row.can_be_taken:
        item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
        item.setCheckState(0, Qt.CheckState.Checked if row.taken else Qt.CheckState.Unchecked)
    else:
        item.setFlags(item.flags() & ~Qt.ItemFlag.ItemIsUserCheckable)
    return item


def _wrapped(text: str, font: QFont, width: float) -> QTextLayout:
    """A title over two lines at most, the rest of it elided."""
    layout = QTextLayout(text, font)
    option = QTextOption()
    option.setWrapMode(QTextOption.WrapMode.WordWrap)
    layout.setTextOption(option)
    layout.setCacheEnabled(True)
    if _lay_lines(layout, width) > 2:
        metrics = QFontMetricsF(font)
        layout.setText(metrics.elidedText(text, Qt.TextElideMode.ElideRight, 1.8 * width))
        _lay_lines(layout, width)
    return layout


def _lay_lines(layout: QTextLayout, width: float) -> int:
    layout.beginLayout()
    y = 0.0
    while (line := layout.createLine()).isValid():
        line.setLineWidth(max(width, 40.0))
        line.setPosition(QPointF(0, y))
        y += line.height() + 1
    layout.endLayout()
    return layout.lineCount()
