"""The Batching page: what could be drawn together, and what keeps it apart."""

from __future__ import annotations

import functools
from collections.abc import Iterator

from PySide6.QtCore import QSettings

from wendascope.advice.findings import Case, Finding
from wendascope.advice.findings.batching import cpu_ms, parts_of, step_ms
from wendascope.analysis.draws.batch_words import BatchWords
from wendascope.analysis.draws.batches import Batch
from wendascope.analysis.draws.structure import Structure, batching_answer
from wendascope.analysis.time.shares import draw_parts
from wendascope.backends import batch_code
from wendascope.backends.doors import Code
from wendascope.desktop.charts.order_strip import OrderStrip
from wendascope.desktop.models.commands import JobName
from wendascope.desktop.models.document import Document, Workspace
from wendascope.desktop.pages._following import FramePage
from wendascope.desktop.pages._registry import page
from wendascope.desktop.views.atlas_view import AtlasView
from wendascope.desktop.views.breaks_view import BreaksView
from wendascope.desktop.views.code_view import CodeView
from wendascope.desktop.views.findings_view import FindingsView
from wendascope.desktop.views.keys_view import KeysView
from wendascope.desktop.views.passes_view import PassesView
from wendascope.desktop.views.ways_view import WaysView
from wendascope.desktop.widgets.node_tree import Node, NodeTree
from wendascope.trials.proofs.proof import newest_together, state_of
from wendascope.trials.proofs.verdicts import SHORT

_TITLES = ["batch / draw", "how", "draws", "then", "when", "~ CPU ms", "~ GPU ms", "KiB", "state"]
_WIDTHS = [72, 52, 44, 56, 64, 64, 48, 104]
_GIVE_WAY = (1, 4, 7)
_HOW = {"instance": "instances", "merge": "merged", "multi-draw": "ranges"}


@page("Batching", 40)
class BatchingPage(FramePage):
    """Answer sentence, the tree of batches and single draws, then findings, breaks, code and atlas pages."""

    guide = "batching"
    picture_share = 0.5
    under_share = 0.3

    def __init__(self, workspace: Workspace, settings: QSettings) -> None:
        super().__init__(workspace, "Which draws can be batched, and what breaks batches?")
        tips = {
            1: "array, atlas, units: how textures that differ come together",
            3: "Draws needed",
            4: "always: by state alone; here: while things lie over each other as in this picture, which a layer number"
            " or a sort key guarantees",
            5: "Estimated: CPU time of the calls saved, as recorded",
            6: "Estimated: draws saved times the cheapest draw",
            7: "Graphics memory of vertices and per-draw data: then minus now",
        }
        self.tree = NodeTree(_TITLES, _WIDTHS, "Batches", tips, _GIVE_WAY)
        self.findings = FindingsView(workspace, "Batching")
        self.breaks = BreaksView(workspace)
        self.keys = KeysView(workspace)
        self.passes = PassesView(settings)
        self.order = OrderStrip()
        self.ways = WaysView(workspace)
        self.code = CodeView()
        self.atlas = AtlasView(workspace, settings)
        self.tabs = self.split(
            self.tree,
            [
                ("Findings", self.findings),
                ("Ways", self.ways),
                ("Order", self.order),
                ("Passes", self.passes),
                ("Keys to unify", self.keys),
                ("What breaks batches", self.breaks),
                ("Code", self.code),
                ("Atlas", self.atlas),
            ],
        )
        self.tree.chosen.connect(self._chosen)
        self.findings.chosen_changed.connect(self._finding_chosen)
        self._shown: tuple[Structure | None, object, int] = (None, None, 0)
        self._following = False
        self.follow()

    def figure(self) -> str:
        document = self._workspace.current
        if document is None or document.structure is None:
            return ""
        saved = document.structure.batches.saved
        return f"-{saved:,}" if saved else "0"

    def opened(self, document: Document | None) -> None:
        if document is not None:
            document.selection.listen(self._follow_selection)
        self.code.show_code([], "Select a batch to see the code for it.")

    def refresh(self, document: Document | None) -> None:
        self.findings.show_document(document)
        self.breaks.show_document(document)
        self.keys.show_document(document)
        self.passes.show_document(document)
        self.order.show_document(document)
        self.atlas.show_document(document)
        found = document.structure if document else None
        if document is None:
            self.say("")
        elif found is None:
            self.say("Looking at the steps ...")
        else:
            answer, evidence = batching_answer(found)
            combined = newest_together(document.proofs)
            if combined is not None and combined.ratio is not None and combined.steps_after < combined.steps_before:
                evidence = f"Proved: {combined.together_summary}. {evidence}"
            self.say(answer, evidence, draw_parts(found))
        kept = self._current_batch()
        shown = (found, document.survey if document else None, len(document.proofs) if document else 0)
        if shown != self._shown:
            self._shown = shown
            self._fill(document)
            if kept is not None and found is not None and any(batch is kept for batch in found.batches.batches):
                self._choose_row(kept)
        self.ways.show_batch(document, self._current_batch() if found else None)

    # ---- batches and single draws ---------------------------------------------------------------------------

    def _fill(self, document: Document | None) -> None:
        found = document.structure if document else None
        if document is None or found is None:
            self.tree.show_root(Node([]))
            return
        case = document.case
        states = self._states(document)
        batches = sorted(found.batches.batches, key=lambda c: -c.saved)
        words = BatchWords(found.sharing, found.batches)
        single_draws = found.batches.single_draws

        def rows() -> Iterator[Node]:
            for batch in batches:
                yield self._batch(document, case, batch, states, words)
            for reason, steps in sorted(single_draws.items(), key=lambda item: -len(item[1])):
                yield Node(
                    [f"single draws: {reason}", "", f"{len(steps):,}", f"{len(steps):,}"],
                    None,
                    len(steps),
                    functools.partial(self._steps, document, steps),
                )

        self.tree.show_root(Node([], count=len(batches) + len(single_draws), children=rows))

    def _states(self, document: Document) -> dict[int, str]:
        """First step of a batch -> what is known of the finding that has it."""
        found = {}
        for finding in document.findings:
            if finding.remedy is not None and finding.remedy.kind == "batch" and finding.rule != "draw-plan":
                for part in finding.remedy.parts:
                    state = state_of(finding, document.proofs)
                    found[part.steps[0]] = SHORT.get(state, state)
        return found

    def _batch(self, document: Document, case: Case, batch: Batch, states: dict[int, str], words: BatchWords) -> Node:
        gpu = step_ms(case, [batch])
        more = (batch.bytes_after - batch.bytes_before) / 1024
        texts = [
            f"{batch.number + 1}  {words.name(batch)}",
            batch.gather if batch.samplers else _HOW[batch.how],
            f"{len(batch.steps):,}",
            f"{len(batch.parts):,}",
            "always" if batch.always else "here",
            f"{cpu_ms(case, [batch]):.2f}",
            "" if gpu is None else f"{gpu:.2f}",
            f"{more:+,.0f}",
            states.get(batch.steps[0], ""),
        ]
        return Node(texts, batch, len(batch.steps), lambda: self._steps(document, batch.steps))

    def _steps(self, document: Document, steps: list[int]) -> Iterator[Node]:
        for step in steps:
            yield Node([f"{step:,}  {document.frame.step_name(step)}"], step)

    # ---- one batch --------------------------------------------------------------------------------------

    def _chosen(self, node: Node) -> None:
        document = self._document
        if document is None or self._following:
            return
        if isinstance(node.thing, int):
            document.selection.choose(node.thing)
        batch = (
            node.thing
            if isinstance(node.thing, Batch)
            else node.parent.thing
            if node.parent and isinstance(node.parent.thing, Batch)
            else None
        )
        if batch is None:
            return
        if isinstance(node.thing, Batch) and document.selection.step not in batch.steps:
            document.selection.choose(batch.steps[0])
        self._ask_code(document, batch)
        self._choose_finding(document, batch)
        self.ways.show_batch(document, batch)

    def _choose_finding(self, document: Document, batch: Batch) -> None:
        mine = [f for f in document.findings if f.remedy and f.remedy.kind == "batch" and batch.steps[0] in f.steps]
        finding = min(mine, key=lambda f: len(f.steps), default=None)
        if finding is not None:
            self.findings.choose(finding.id)

    def _finding_chosen(self, finding: Finding | None) -> None:
        """The batch of a finding is shown in the tree, without losing a closer choice there."""
        if finding is None or self._following or not finding.steps or self._document is None:
            return
        chosen = self._current_batch()
        if chosen is None or chosen.steps[0] not in finding.steps:
            self._show_batch(finding.steps[0])

    def _current_batch(self) -> Batch | None:
        node = self.tree.current
        while node is not None and not isinstance(node.thing, Batch):
            node = node.parent
        return node.thing if node else None

    def _show_batch(self, step: int) -> None:
        document = self._document
        if document is None or document.structure is None:
            return
        number = int(document.structure.batches.of_step[step])
        if number < 0:
            return
        batch = document.structure.batches.batches[number]
        if self._choose_row(batch):
            self._choose_finding(document, batch)
            self._ask_code(document, batch)
            self.ways.show_batch(document, batch)

    def _choose_row(self, batch: Batch) -> bool:
        """Choose a batch in the tree without telling anybody; whether it is there."""
        for row, node in enumerate(self.tree.nodes.root.children):
            if isinstance(node.thing, Batch) and node.thing.number == batch.number:
                self._following = True
                index = self.tree.nodes.index(row, 0)
                self.tree.setCurrentIndex(index)
                self.tree.scrollTo(index)
                self._following = False
                return True
        return False

    def _follow_selection(self) -> None:
        """A step chosen elsewhere shows its batch."""
        document = self._document
        if document is None or document.structure is None or document.selection.step is None or not self.isVisible():
            return
        chosen = self._current_batch()
        if chosen is None or document.selection.step not in chosen.steps:
            self._show_batch(document.selection.step)

    def _ask_code(self, document: Document, batch: Batch) -> None:
        def work(_replay: object, _task: object) -> list[Code]:
            return batch_code(document.frame, parts_of(batch)[0])

        what = f"{batch.label}: {len(batch.parts[0])} draws in one" + (
            f", the first of {len(batch.parts)}" if len(batch.parts) > 1 else ""
        )
        self._workspace.jobs.run_job(
            JobName.BATCH_CODE,
            work,
            lambda code: self.code.show_code(code, what),
            lambda error: self.code.show_code([], f"{batch.label} cannot be drawn together here: {error}."),
        )
