"""The facts of the selected step, as sections that can be folded and copied."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtGui import QBrush, QColor, QFont
from PySide6.QtWidgets import QAbstractItemView, QHeaderView, QTreeWidget, QTreeWidgetItem, QVBoxLayout, QWidget

from wendascope.desktop.models.document import Document
from wendascope.desktop.widgets.copying import CopiesText
from wendascope.desktop.widgets.note_line import NoteLine
from wendascope.desktop.widgets.plain import Label
from wendascope.desktop.widgets.theme import GRID, figures_font, theme
from wendascope.frame.frame import Section
from wendascope.frame.notes import WHOLE_FRAME, Subject
from wendascope.frame.summary import summarise
from wendascope.texts import share, three_digits, visible


class _FactsTree(CopiesText, QTreeWidget):
    def as_text(self) -> str:
        return "\n".join("\t".join(item.text(c) for c in range(2)).rstrip() for item in self.selectedItems())


class FactsPanel(QWidget):
    """Follows the selection of a document; with no step chosen it tells about the frame."""

    def __init__(self) -> None:
        super().__init__()
        self._document: Document | None = None
        self._folded: set[str] = set()
        self.title = Label()
        bold = QFont(figures_font())
        bold.setBold(True)
        self.title.setFont(bold)
        self.note = NoteLine()
        self.tree = _FactsTree()
        self.tree.setColumnCount(2)
        self.tree.setHeaderHidden(True)
        self.tree.setRootIsDecorated(True)
        self.tree.setIndentation(GRID + 4)
        self.tree.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        self.tree.setFont(figures_font())
        self.tree.setAccessibleName("Facts")
        self.tree.setTextElideMode(Qt.TextElideMode.ElideRight)
        self.tree.header().setSectionResizeMode(0, QHeaderView.ResizeMode.Interactive)
        self.tree.header().resizeSection(0, 20 * GRID)
        self.tree.itemCollapsed.connect(lambda item: self._folded.add(item.data(0, Qt.ItemDataRole.UserRole)))
        self.tree.itemExpanded.connect(lambda item: self._folded.discard(item.data(0, Qt.ItemDataRole.UserRole)))
        layout = QVBoxLayout(self)
        layout.setContentsMargins(GRID, GRID // 2, GRID, GRID)
        layout.addWidget(self.title)
        layout.addWidget(self.note)
        layout.addWidget(self.tree, 1)

    def show_document(self, document: Document | None) -> None:
        if document is not self._document:
            self._document = document
            if document is not None:
                document.selection.listen(self.refresh)
                document.listen(self.refresh)
        self.refresh()

    def refresh(self) -> None:
        document = self._document
        self.tree.clear()
        if document is None:
            self.title.setText("")
            self.note.show_subjects(None, [])
            return
        step = document.selection.step
        self.note.show_subjects(document, _subjects(document, step))
        if step is None:
            self.title.setText("Frame")
            self._fill(_frame_facts(document))
            return
        self.title.setText(f"Step {step:,}: {document.frame.step_name(step)}")
        self._fill(self._measured(document, step) + document.frame.step_facts(step))

    def _measured(self, document: Document, step: int) -> list[Section]:
        survey = document.survey
        if survey is None:
            return []
        rows = [
            (
                "time alone",
                f"{survey.steps.ms[step]:.3f} ms ({survey.steps.ms_low[step]:.3f}–{survey.steps.ms_high[step]:.3f})",
            )
        ]
        if survey.fragments is not None:
            rows.append(("fragments written", f"{survey.fragments[step]:,}"))
        return [Section("Measured", rows), *_drawn_facts(document, step)]

    def _fill(self, sections: list[Section]) -> None:
        soft = QBrush(QColor(theme().soft))
        for section in sections:
            key = section.title.split(" ")[0]
            head = QTreeWidgetItem([visible(section.title)])
            head.setData(0, Qt.ItemDataRole.UserRole, key)
            font = QFont(self.tree.font())
            font.setBold(True)
            head.setFont(0, font)
            self.tree.addTopLevelItem(head)
            head.setFirstColumnSpanned(True)
            for label, text in section.rows:
                item = QTreeWidgetItem([visible(label), visible(text)])
                item.setForeground(0, soft)
                item.setToolTip(1, text)
                head.addChild(item)
            head.setExpanded(key not in self._folded)


def _subjects(document: Document, step: int | None) -> list[tuple[str, Subject]]:
    """What can be written on: the step, its pass, the frame."""
    whole = [("the frame", WHOLE_FRAME)]
    if step is None:
        return whole
    passes = document.frame.passes
    index = int(passes.of_step[step])
    return [
        (f"step {step:,}", Subject("step", str(step))),
        (f"pass {passes.short_names[index]}", Subject("pass", str(index))),
        *whole,
    ]


def _drawn_facts(document: Document, step: int) -> list[Section]:
    """What of a step is seen, and what becomes of its triangles."""
    if document.drawn is None or document.drawn.steps[step].kind == "clear":
        return []
    row = document.drawn.steps[step]
    sections = []
    if row.fragments >= 0:
        seen = [("survive", f"{row.survivors:,}"), ("covered later", f"{row.fragments - row.survivors:,}")]
        if row.kind == "blended":
            seen.append(("blended, no change", f"{row.idle:,}"))
        if row.rejected >= 0:
            seen.append(("shaded, then rejected", f"{row.rejected:,}"))
        if document.survey is not None:
            seen.append(
                (
                    "wasted, estimated",
                    (
                        f"{document.survey.steps.ms[step] * row.wasted_share:.3f} ms, {share(row.wasted_share)} of its"
                        " fragments"
                    ),
                )
            )
        seen.append(("early depth test", "possible" if row.early else "prevented"))
        sections.append(Section("Fragments", seen))
    if row.triangles >= 0:
        parts = [
            ("outside the view", row.outside),
            ("culled", row.away),
            ("without area", row.empty),
            ("covering no sample", row.no_sample),
            ("covering 1 to 4", row.few),
            ("filling no pixel", row.partial),
            ("vertices run, model", row.transformed),
        ]
        rows = [(name, f"{count:,}") for name, count in parts if count >= 0]
        if row.box is not None:
            rows.append(("on its target", f"{row.box[2] - row.box[0]} x {row.box[3] - row.box[1]} pixels"))
        if row.survivors > 0 and row.drawn > 0:
            rows.append(("triangles per visible pixel", three_digits(row.drawn / row.survivors)))
        if row.vertex_ms is not None:
            rows.append(("vertex stages alone", f"{row.vertex_ms:.3f} ms"))
        sections.append(Section("Triangles", rows))
    return sections


def _frame_facts(document: Document) -> list[Section]:
    summary = summarise(document.frame)
    frame = document.frame
    sections = [
        Section(
            "Captured",
            [
                ("program", summary.program),
                ("frame", str(summary.frame_number)),
                ("when", summary.captured_at),
                ("context", summary.api),
                ("driver", summary.renderer),
                ("window", f"{summary.width} x {summary.height}"),
                ("calls", f"{summary.calls:,}"),
                ("steps", f"{summary.steps:,}"),
                ("triangles", f"{summary.triangles:,}"),
                ("target paused", f"{frame.metadata.held_seconds:.2f} s for reading its objects"),
            ],
        ),
        Section("Objects", [(what, f"{count:,}") for what, count in summary.objects.items()]),
    ]
    if summary.caveats:
        sections.insert(0, Section("Caveats", [(str(i + 1), text) for i, text in enumerate(summary.caveats)]))
    return sections
