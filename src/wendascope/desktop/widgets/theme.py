"""Colours and type of the window, light and dark."""

from __future__ import annotations

from dataclasses import dataclass

from PySide6.QtCore import Qt
from PySide6.QtGui import QColor, QFont, QFontDatabase, QGuiApplication, QPalette
from PySide6.QtWidgets import QApplication

from wendascope.colours import COPPER, COPPER_ON_DUSK, DUSK, INK, PAPER, PASS_COLOURS, RELIEF, SURROUND
from wendascope.desktop.models.tree import Node

GRID = 8
"""All distances are multiples of this many pixels."""


@dataclass(frozen=True)
class Theme:
    paper: str
    raised: str
    ink: str
    soft: str
    line: str
    accent: str
    bar: str
    faint: str
    """Text that is there for completeness only."""
    surround: str = SURROUND


LIGHT = Theme(PAPER, "#FBF9F4", INK, "#5A6670", "#D5CEBF", COPPER, "#E0D6C1", "#A39D90")
DARK = Theme(DUSK, "#2B2F35", "#E6E1D6", "#A3A9AD", "#43484F", COPPER_ON_DUSK, "#464A4D", "#6E7377")


_chosen = "system"


def choose(name: str) -> None:
    """`light`, `dark`, or `system` to follow it. Takes effect with the next `apply`."""
    global _chosen
    _chosen = name


def is_dark() -> bool:
    """Whether dark colours are shown now."""
    if _chosen != "system":
        return _chosen == "dark"
    return QGuiApplication.styleHints().colorScheme() == Qt.ColorScheme.Dark


def theme() -> Theme:
    """The colours that fit the system's scheme, or the one that was chosen in the View menu."""
    return DARK if is_dark() else LIGHT


def code_colours() -> tuple[str, str]:
    """(words of the language, numbers) in source code."""
    return (RELIEF[2], RELIEF[1]) if is_dark() else (RELIEF[4], RELIEF[5])


def pass_colour(index: int) -> QColor:
    """The colour of a pass, by its number."""
    colour = QColor(PASS_COLOURS[index % len(PASS_COLOURS)])
    return colour.darker(125) if is_dark() else colour


def group_colour(node: Node) -> QColor:
    """The colour of an outermost row of the tree, in tables and in the strip; groups that are no passes begin at the
    other end, so that nobody takes them for passes.
    """
    return pass_colour(node.number if node.kind == "pass" else len(PASS_COLOURS) - 1 - node.number)


def apply(app: QApplication) -> None:
    """Set palette and fonts; called again when the scheme changes."""
    t = theme()
    palette = QPalette()
    roles = QPalette.ColorRole
    for role, colour in (
        (roles.Window, t.paper),
        (roles.Base, t.raised),
        (roles.AlternateBase, t.paper),
        (roles.Button, t.raised),
        (roles.WindowText, t.ink),
        (roles.Text, t.ink),
        (roles.ButtonText, t.ink),
        (roles.ToolTipBase, t.raised),
        (roles.ToolTipText, t.ink),
        (roles.PlaceholderText, t.soft),
        (roles.Mid, t.line),
        (roles.Midlight, t.line),
        (roles.Dark, t.line),
        (roles.Light, t.raised),
        (roles.Highlight, t.accent),
        (roles.Link, t.accent),
        (roles.Accent, t.accent),
    ):
        palette.setColor(role, QColor(colour))
    palette.setColor(roles.HighlightedText, QColor("#FFFFFF" if not is_dark() else "#1B1E22"))
    disabled = QPalette.ColorGroup.Disabled
    for role in (roles.WindowText, roles.Text, roles.ButtonText):
        palette.setColor(disabled, role, QColor(t.soft))
    sheet = f"""
        QToolTip {{ color: {t.ink}; background: {t.raised}; border: 1px solid {t.line}; padding: 4px; }}
        QHeaderView::section {{ background: {t.paper}; color: {t.soft}; border: 0;
            border-bottom: 1px solid {t.line}; padding: 4px 8px; }}
        QTreeView, QListView, QTreeWidget, QTableView, QPlainTextEdit {{ border: 1px solid {t.line}; outline: 0; }}
        QTreeView::item, QListView::item {{ padding: 2px 4px; min-height: 20px; }}
        QTableView::item {{ padding: 0 8px; }}
        QSplitter::handle {{ background: {t.line}; }}
        QProgressBar {{ color: {t.ink}; background: {t.raised}; border: 1px solid {t.line};
            text-align: center; padding: 2px; }}
        QProgressBar::chunk {{ background: {t.bar}; }}
        QTabWidget::pane {{ border: 0; border-top: 1px solid {t.line}; background: {t.paper}; }}
        QTabWidget > QStackedWidget > QWidget {{ background: {t.paper}; }}
        QScrollArea, QScrollArea > QWidget > QWidget {{ background: {t.paper}; border: 0; }}
        QMenuBar {{ background: {t.paper}; }}
        """
    # both go through every widget there is, which takes seconds for a whole window
    if app.palette() != palette:
        app.setPalette(palette)
    if app.styleSheet() != sheet:
        app.setStyleSheet(sheet)


def figures_font(scale: float = 1.0) -> QFont:
    """A font whose digits are all equally wide."""
    font = QFont(QGuiApplication.font())
    font.setFeature(QFont.Tag("tnum"), 1)
    if "DejaVu Sans" in QFontDatabase.families() and font.family() == "":
        font.setFamily("DejaVu Sans")
    font.setPointSizeF(font.pointSizeF() * scale)
    return font
