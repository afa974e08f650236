"""What pages about one frame share: question, answer, its parts to scale and evidence on top, and following the shown
document.
"""

from __future__ import annotations

import html
from collections.abc import Sequence

from PySide6.QtCore import Qt
from PySide6.QtGui import QShowEvent
from PySide6.QtWidgets import QSplitter, QTabWidget, QVBoxLayout, QWidget

from wendascope.analysis.time.shares import Part
from wendascope.desktop.charts.parts_bar import PartsBar
from wendascope.desktop.models.document import Document, Workspace
from wendascope.desktop.pages._registry import Page
from wendascope.desktop.widgets.answer import answer_labels
from wendascope.desktop.widgets.plain import Label
from wendascope.desktop.widgets.theme import GRID
from wendascope.texts import capital


class FramePage(Page):
    """A page that tells about the shown document. Subclasses add widgets to `room` and answer in `refresh`."""

    stages: tuple[str, ...] = ()
    """Of the survey: those that this page shows the answers of."""
    works_hidden = False
    """Whether its figure in the rail needs it to refresh before it was ever seen."""

    def __init__(self, workspace: Workspace, question: str) -> None:
        super().__init__()
        self._workspace = workspace
        self._document: Document | None = None
        self._behind = False
        asked, self.answer, self.evidence = answer_labels(question)
        self.room = QVBoxLayout(self)
        self.room.setContentsMargins(2 * GRID, GRID, GRID, GRID)
        self.room.setSpacing(GRID)
        self.parts = PartsBar(question)
        self.missing = Label()
        self.missing.setWordWrap(True)
        self.missing.setTextFormat(Qt.TextFormat.RichText)
        self.missing.linkActivated.connect(lambda _link: workspace.jobs.measure(resume=True))
        self.missing.hide()
        for part in (asked, self.answer, self.parts, self.evidence, self.missing):
            self.room.addWidget(part)

    def split(self, table: QWidget, parts: list[tuple[str, QWidget]]) -> QTabWidget:
        """A table above, tabs below, and a handle between. Returns the tabs."""
        tabs = QTabWidget()
        for title, part in parts:
            tabs.addTab(part, title)
        split = QSplitter(Qt.Orientation.Vertical)
        split.addWidget(table)
        split.addWidget(tabs)
        split.setChildrenCollapsible(False)
        split.setSizes([210, 330])
        self.room.addWidget(split, 1)
        return tabs

    def follow(self) -> None:
        """Begin to follow the workspace; called when the page is built."""
        self._workspace.listen(self._document_changed)
        self._document_changed()

    def _document_changed(self) -> None:
        document = self._workspace.current
        if document is not self._document:
            self._document = document
            if document is not None:
                document.listen(self._measured)
            self.opened(document)
        self._measured()

    def _measured(self) -> None:
        if self._document is not self._workspace.current:
            return  # of a document that is not shown
        self._behind = not (self.isVisible() or self.works_hidden)
        if not self._behind:
            self.refresh(self._document)
            self._tell_missing()

    def _tell_missing(self) -> None:
        """Say which stage of the survey did not end well, and offer to run it again."""
        known = self._document.stage_ends if self._document is not None else {}
        ends = [known[name] for name in self.stages if name in known and known[name].caveat]
        text = " ".join(html.escape(f"{capital(end.caveat)}.") for end in ends)
        self.missing.setText(f'{text} <a href="again">Run it again</a>')
        self.missing.setVisible(bool(ends))

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        if self._behind:
            self._measured()

    def say(self, answer: str, evidence: str = "", parts: Sequence[Part] = ()) -> None:
        self.answer.setText(answer)
        self.parts.show_parts(parts)
        self.evidence.setText(evidence)
        self.evidence.setVisible(bool(evidence))

    def opened(self, document: Document | None) -> None:
        """Another document is shown."""

    def refresh(self, document: Document | None) -> None:
        """Show what is known of the document now."""
        raise NotImplementedError
