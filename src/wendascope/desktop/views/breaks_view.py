"""Why neighbours do not go together: reasons, names, pairs; and breaks that are accepted, with a note."""

from __future__ import annotations

from collections.abc import Iterator

from PySide6.QtWidgets import QHBoxLayout, QInputDialog, QMessageBox, QPushButton, QVBoxLayout, QWidget

from wendascope.analysis.draws.breaks import Accepted, Breaks, Reason, find_breaks
from wendascope.desktop.models.commands import JobName
from wendascope.desktop.models.document import Document, Workspace
from wendascope.desktop.widgets.node_tree import Node, NodeTree
from wendascope.desktop.widgets.plain import Label
from wendascope.desktop.widgets.theme import GRID
from wendascope.errors import FileError

_WORDS = {
    "kind": "one is not a draw",
    "target": "another target",
    "geometry": "other geometry",
    "order": "order: steps between must keep their place",
    "blend": "blending",
    "depth": "depth state",
    "raster": "rasterising state",
    "texture": "texture",
    "uniform": "uniform",
    "program": "program",
    "block": "uniform block",
    "viewport": "viewport",
    "scissor or stencil": "scissor or stencil",
}


class BreaksView(QWidget):
    """The tree of reasons, and what can be done with one."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self._workspace = workspace
        self._document: Document | None = None
        self._shown: Breaks | None = None
        tips = {1: "Pairs of neighbours that this keeps apart", 2: "Pairs that nothing else keeps apart"}
        self.tree = NodeTree(
            ["what differs", "pairs", "alone", "accepted"], [72, 72, 160], "What keeps neighbours apart", tips
        )
        self.accept = QPushButton("Accept ...")
        self.accept.setToolTip("It cannot be helped: keep it out of the counts, with a note")
        self.back = QPushButton("Count again")
        self.note = Label()
        row = QHBoxLayout()
        row.addWidget(self.accept)
        row.addWidget(self.back)
        row.addWidget(self.note, 1)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, GRID // 2, 0, 0)
        layout.setSpacing(GRID // 2)
        layout.addWidget(self.tree, 1)
        layout.addLayout(row)
        self.tree.chosen.connect(self._chosen)
        self.accept.clicked.connect(self._ask)
        self.back.clicked.connect(lambda: self._keep(withdrawn=True, note=""))
        self._enable()

    def show_document(self, document: Document | None) -> None:
        self._document = document
        found = document.structure.breaks if document and document.structure else None
        if found is not self._shown:
            self._shown = found
            self._fill()

    def _fill(self) -> None:
        found = self._shown
        reasons = found.reasons if found else []

        def rows() -> Iterator[Node]:
            for reason in reasons:
                yield self._node(reason, _WORDS.get(reason.reason, reason.reason))

        self.tree.show_root(Node([], count=len(reasons), children=rows))
        accepted = sum(1 for item in self._current().values() if not item.withdrawn)
        self.note.setText(f"{accepted} accepted, out of the counts" if accepted else "")
        self._enable()

    def _current(self) -> dict[tuple[str, str, int], Accepted]:
        """The newest record of each break."""
        return {(a.reason, a.name, a.step): a for a in (self._document.accepted if self._document else [])}

    def _node(self, reason: Reason, label: str) -> Node:
        texts = [
            label,
            f"{len(reason.pairs):,}",
            f"{reason.alone:,}",
            (reason.accepted.note or "accepted") if reason.accepted else "",
        ]
        if reason.parts:

            def parts() -> Iterator[Node]:
                for part in reason.parts:
                    yield self._node(part, part.name)

            return Node(texts, Accepted(reason.reason, reason.name), len(reason.parts), parts)
        return Node(texts, Accepted(reason.reason, reason.name), len(reason.pairs), lambda: self._pairs(reason))

    def _pairs(self, reason: Reason) -> Iterator[Node]:
        assert self._shown is not None
        for step in reason.pairs.tolist():
            yield Node(
                [f"steps {step:,} and {step + 1:,}: {', '.join(self._shown.of_pair(step))}"],
                Accepted(reason.reason, reason.name, step),
            )

    # ---- acting -----------------------------------------------------------------------------------------

    def _chosen(self, node: Node) -> None:
        self._enable()
        thing = node.thing
        if isinstance(thing, Accepted) and thing.step >= 0 and self._document is not None:
            self._document.selection.choose(thing.step + 1)

    def _enable(self) -> None:
        node = self.tree.current
        thing = node.thing if node else None
        known = self._current().get((thing.reason, thing.name, thing.step)) if isinstance(thing, Accepted) else None
        self.accept.setEnabled(isinstance(thing, Accepted))
        self.back.setEnabled(known is not None and not known.withdrawn)

    def _ask(self) -> None:
        note, given = QInputDialog.getText(self, "Accept this break", "Why it cannot be helped:")
        if given:
            self._keep(withdrawn=False, note=note.strip())

    def _keep(self, withdrawn: bool, note: str) -> None:
        """Write it into the file, and count again in the background."""
        node, document = self.tree.current, self._document
        if node is None or document is None or not isinstance(node.thing, Accepted):
            return
        thing = node.thing
        try:
            document.accept_break(Accepted(thing.reason, thing.name, thing.step, note, withdrawn))
        except FileError as error:
            QMessageBox.warning(self, "This cannot be kept", str(error))
            return
        structure = document.structure
        if structure is None:
            return
        accepted = list(document.accepted)
        self._workspace.jobs.run_job(
            JobName.BREAKS,
            lambda _replay, _task: find_breaks(structure.sharing, accepted),
            document.set_breaks,
            lambda _error: None,
        )
