"""The State page: what is set for nothing, from the kind of state to the program to the single call."""

from __future__ import annotations

import html
import itertools
from collections.abc import Iterator
from typing import Any

import numpy as np
import numpy.typing as npt
from PySide6.QtCore import QSettings, Qt
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QTreeWidget, QTreeWidgetItem

from wendascope.analysis.draws.structure import Structure, redundant_share, state_answer
from wendascope.analysis.draws.switches import WHAT
from wendascope.analysis.time.shares import state_parts
from wendascope.desktop.models.document import Document, Workspace
from wendascope.desktop.pages._following import FramePage
from wendascope.desktop.pages._registry import page
from wendascope.desktop.views.findings_view import FindingsView
from wendascope.desktop.widgets.node_tree import Node, NodeTree
from wendascope.desktop.widgets.plain import Label
from wendascope.desktop.widgets.theme import GRID, figures_font
from wendascope.frame.call_use import KINDS, OVERWRITTEN, REPEATS, USED, USES
from wendascope.texts import share, visible

Ints = npt.NDArray[np.int64]
_TITLES = ["kind / program / call", "calls", "used", "repeats", "overwritten", "ms"]


@page("State", 50)
class StatePage(FramePage):
    """Answer sentence, the tree of calls, then findings, the chosen call, and switches."""

    guide = "batching"

    def __init__(self, workspace: Workspace, _settings: QSettings) -> None:
        super().__init__(workspace, "Which state calls are redundant?")
        self.passes = QComboBox()
        self.passes.setAccessibleName("Pass")
        self.redundant_only = QComboBox()
        self.redundant_only.setAccessibleName("Which calls")
        self.redundant_only.addItem("all calls", False)
        self.redundant_only.addItem("only redundant calls", True)
        row = QHBoxLayout()
        row.addWidget(Label("In"))
        row.addWidget(self.passes)
        row.addWidget(Label("show"))
        row.addWidget(self.redundant_only)
        row.addStretch(1)
        self.room.addLayout(row)
        tips = {
            2: "A draw or another call depends on it",
            3: "Repeats the current value",
            4: "Overwritten before any use",
            5: "CPU time in redundant calls while recorded (waits excluded)",
        }
        self.tree = NodeTree(_TITLES, [56, 56, 72, 96, 64], "State calls", tips)
        self.findings = FindingsView(workspace, "State")
        self.call = Label("Select a call to see why it is redundant.")
        self.call.setWordWrap(True)
        self.call.setTextFormat(Qt.TextFormat.RichText)
        self.call.setTextInteractionFlags(Qt.TextInteractionFlag.TextBrowserInteraction)
        self.call.setAlignment(Qt.AlignmentFlag.AlignTop)
        self.call.setContentsMargins(GRID, GRID, GRID, GRID)
        self.call.linkActivated.connect(self._go)
        self.switches = _Switches()
        self.tabs = self.split(
            self.tree, [("Findings", self.findings), ("Chosen call", self.call), ("Switches", self.switches)]
        )
        self.tree.chosen.connect(self._chosen)
        self.passes.currentIndexChanged.connect(lambda: self._fill())
        self.redundant_only.currentIndexChanged.connect(lambda: self._fill())
        self._shown: Structure | None = None
        self.follow()

    def figure(self) -> str:
        document = self._workspace.current
        return "" if document is None or document.structure is None else f"{share(redundant_share(document.structure))}"

    def opened(self, document: Document | None) -> None:
        self.passes.blockSignals(True)
        self.passes.clear()
        self.passes.addItem("the whole frame", -1)
        for index, name in enumerate(document.frame.passes.names if document else []):
            self.passes.addItem(visible(name), index)
        self.passes.blockSignals(False)

    def refresh(self, document: Document | None) -> None:
        self.findings.show_document(document)
        found = document.structure if document else None
        if document is None:
            self.say("")
        elif found is None:
            self.say("Looking at the calls ...")
        else:
            self.say(*state_answer(found), state_parts(found))
        if found is not self._shown:
            self._shown = found
            self._fill()
            self.switches.show_structure(found)

    # ---- the tree ---------------------------------------------------------------------------------------

    def _fill(self) -> None:
        found = self._shown
        if found is None or self._document is None:
            self.tree.show_root(Node([]))
            return
        rows = np.ones(len(found.setting), bool)
        chosen = self.passes.currentData()
        if chosen is not None and chosen >= 0:
            rows &= found.passes == chosen
        if self.redundant_only.currentData():
            rows &= found.use.redundant[found.setting]
        calls, programs = found.setting[rows], found.program[rows]
        kinds = _runs(found.use.kind[calls])
        spent = np.where(found.use.redundant[calls], found.ms[calls], 0.0)
        kinds.sort(key=lambda run: -float(spent[run].sum()))

        def nodes() -> Iterator[Node]:
            for run in kinds:
                yield self._kind(calls[run], programs[run])

        self.tree.show_root(Node([], count=len(kinds), children=nodes))

    def _counts(self, label: str, calls: Ints) -> list[str]:
        assert self._shown is not None
        counts = np.bincount(self._shown.use.use[calls], minlength=len(USES))
        redundant = calls[self._shown.use.redundant[calls]]
        return [
            label,
            f"{len(calls):,}",
            *(f"{int(counts[k]):,}" for k in (USED, REPEATS, OVERWRITTEN)),
            f"{self._shown.ms[redundant].sum():.3f}",
        ]

    def _kind(self, calls: Ints, programs: Ints) -> Node:
        assert self._document is not None and self._shown is not None
        frame = self._document.frame
        runs = sorted(_runs(programs), key=lambda run: run.start - run.stop)

        def nodes() -> Iterator[Node]:
            for run in runs:
                name = int(programs[run.start])
                label = frame.program_name(name) if name else "no program in use"
                mine = calls[run]
                yield Node(self._counts(label, mine), None, len(mine), lambda mine=mine: self._calls(mine))  # type: ignore[misc]

        return Node(self._counts(KINDS[self._shown.use.kind[calls[0]]], calls), None, len(runs), nodes)

    def _calls(self, calls: Ints) -> Iterator[Node]:
        assert self._document is not None and self._shown is not None
        frame, use = self._document.frame, self._shown.use
        for call in calls.tolist():
            arguments = frame.call_text(call)
            marks = ["1" if use.use[call] == k else "" for k in (USED, REPEATS, OVERWRITTEN)]
            spent = f"{self._shown.ms[call]:.4f}" if use.redundant[call] else ""
            yield Node([f"{call:,}  {arguments}", "", *marks, spent], call)

    # ---- one call ---------------------------------------------------------------------------------------

    def _chosen(self, node: Node) -> None:
        if node.thing is None or self._shown is None or self._document is None:
            return
        call, use = int(node.thing), self._shown.use
        lines = [f"<b>{_sentence(self._told(call))}</b>: {USES[use.use[call]]}."]
        because = int(use.because[call])
        if use.use[call] == REPEATS and because >= 0:
            lines.append(
                f"The same was set by {self._told(because)}; nothing changed it in the"
                f" {call - because - 1:,} calls between."
            )
        elif use.use[call] == REPEATS:
            lines.append("The same was set before the frame, and nothing in the frame has changed it.")
        elif use.use[call] == OVERWRITTEN:
            lines.append(
                f"{_sentence(self._told(because))} replaces it, and no call between depends on it"
                " (ignoring redundant calls)."
            )
        lines.append(f"{self._shown.ms[call] * 1000:.1f} µs inside the call while recorded.")
        self.call.setText("<br>".join(lines))
        self.tabs.setCurrentWidget(self.call)

    def _told(self, call: int) -> str:
        """Rich text."""
        assert self._document is not None
        frame = self._document.frame
        step = int(np.searchsorted(frame.steps.call, call))
        where = f" before <a href='{step}'>step {step:,}</a>" if step < len(frame.steps) else " after the last step"
        return f"call {call:,} {html.escape(visible(frame.call_text(call)))}{where}"

    def _go(self, link: str) -> None:
        if self._document is not None:
            self._document.selection.choose(int(link))


def _runs(values: npt.NDArray[Any]) -> list[slice]:
    """Where equal values follow each other."""
    if len(values) == 0:
        return []
    edges = [0, *(np.flatnonzero(values[1:] != values[:-1]) + 1).tolist(), len(values)]
    return [slice(a, b) for a, b in itertools.pairwise(edges)]


def _sentence(text: str) -> str:
    return text[:1].upper() + text[1:]


class _Switches(QTreeWidget):
    """How often each pass switches now, and how often it would in its best legal order."""

    def __init__(self) -> None:
        super().__init__()
        self.setColumnCount(1 + len(WHAT))
        self.setHeaderLabels(["pass", *(f"{name} now (best)" for name in WHAT)])
        self.setRootIsDecorated(False)
        self.setFont(figures_font())
        self.setAccessibleName("Switches of each pass")
        header = self.header()
        header.setStretchLastSection(False)
        header.resizeSection(0, 18 * GRID)
        for column in range(1, 1 + len(WHAT)):
            header.resizeSection(column, 20 * GRID)
            self.headerItem().setTextAlignment(column, Qt.AlignmentFlag.AlignRight)

    def show_structure(self, found: Structure | None) -> None:
        self.clear()
        if found is None:
            return
        names = found.sharing.frame.passes.names
        for name, row in zip(names, found.switches, strict=True):
            texts = [f"{row.now[w]:,}" + (f" ({row.best[w]:,})" if row.best[w] != row.now[w] else "") for w in WHAT]
            item = QTreeWidgetItem([visible(name), *map(visible, texts)])
            for column in range(1, 1 + len(WHAT)):
                item.setTextAlignment(column, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
            self.addTopLevelItem(item)
