"""The Batching page: what could be drawn together, and what keeps it apart."""

from __future__ import annotations

from collections.abc import Iterator

from PySide6.QtCore import QSettings

from wendascope.analysis.companies import Company
from wendascope.analysis.findings import Case, Finding
from wendascope.analysis.findings.batching import cpu_ms, step_ms
from wendascope.analysis.structure import Structure, batching_answer
from wendascope.desktop.atlas_view import AtlasView
from wendascope.desktop.breaks_view import BreaksView
from wendascope.desktop.code_view import CodeView
from wendascope.desktop.findings_view import FindingsView
from wendascope.desktop.model import Document, Workspace
from wendascope.desktop.node_tree import Node, NodeTree
from wendascope.desktop.pages._following import FramePage
from wendascope.desktop.pages._registry import page
from wendascope.frame.describe import step_name
from wendascope.trials.batching import Code, NewObjects, plan_batch
from wendascope.trials.proof import COMBINED, state_of

_TITLES = ["company / step", "draws", "then", "~ CPU ms", "~ GPU ms", "KiB", "state"]
_WIDTHS = [52, 44, 72, 72, 56, 88]
_HOW = {"instance": "copies", "merge": "merged", "multi-draw": "ranges"}


@page("Batching", 40)
class BatchingPage(FramePage):
    """Answer sentence, the tree of companies and loners, then findings, breaks, code and atlas pages."""

    def __init__(self, workspace: Workspace, settings: QSettings) -> None:
        super().__init__(workspace, "What could be drawn together, and what keeps it apart?")
        tips = {
            2: "Draws that would do", 3: "Estimated: CPU time of the calls that would go, as recorded", 4: "Estimated: what the cheapest steps of the frame take, for each step less",
            5: "Graphics memory of vertices and of each draw's data: then less now",
        }  # fmt: skip
        self.tree = NodeTree(_TITLES, _WIDTHS, "Companies", tips)
        self.findings = FindingsView(workspace, "Batching")
        self.breaks = BreaksView(workspace)
        self.code = CodeView()
        self.atlas = AtlasView(workspace, settings)
        self.tabs = self.split(self.tree, [("Findings", self.findings), ("What keeps steps apart", self.breaks), ("Code", self.code), ("Atlas", self.atlas)])
        self.tree.chosen.connect(self._chosen)
        self.findings.chosen_changed.connect(self._finding_chosen)
        self._shown: tuple[Structure | None, object, int] = (None, None, 0)
        self._following = False
        self.follow()

    def figure(self) -> str:
        document = self._workspace.current
        if document is None or document.structure is None:
            return ""
        saved = document.structure.companies.saved
        return f"-{saved:,}" if saved else "0"

    def opened(self, document: Document | None) -> None:
        if document is not None:
            document.selection.listen(self._follow_selection)
        self.code.show_code([], "Choose a company to see what you would write for it.")

    def refresh(self, document: Document | None) -> None:
        self.findings.show_document(document)
        self.breaks.show_document(document)
        self.atlas.show_document(document)
        found = document.structure if document else None
        if document is None:
            self.say("")
        elif found is None:
            self.say("Looking at the steps ...")
        else:
            answer, evidence = batching_answer(found)
            combined = document.proofs.get(COMBINED)
            if combined is not None and combined.ratio is not None and combined.steps_after < combined.steps_before:
                evidence = f"Proved: {combined.together_summary}. {evidence}"
            self.say(answer, evidence)
        shown = (found, document.survey if document else None, len(document.proofs) if document else 0)
        if shown != self._shown:
            self._shown = shown
            self._fill(document)

    # ---- companies and loners ---------------------------------------------------------------------------

    def _fill(self, document: Document | None) -> None:
        found = document.structure if document else None
        if document is None or found is None:
            self.tree.show_root(Node([]))
            return
        case = document.case
        states = self._states(document)
        companies = sorted(found.companies.companies, key=lambda c: -c.saved)
        loners = found.companies.loners

        def rows() -> Iterator[Node]:
            for company in companies:
                yield self._company(document, case, company, states)
            for reason, steps in sorted(loners.items(), key=lambda item: -len(item[1])):
                yield Node([f"loners: {reason}", f"{len(steps):,}", f"{len(steps):,}"], None, len(steps), lambda steps=steps: self._steps(document, steps))  # type: ignore[misc]

        self.tree.show_root(Node([], count=len(companies) + len(loners), children=rows))

    def _states(self, document: Document) -> dict[int, str]:
        """First step of a company -> what is known of the finding that has it."""
        found = {}
        for finding in document.findings:
            if finding.remedy is not None and finding.remedy.kind == "batch":
                for part in finding.remedy.parts:
                    found[part.steps[0]] = state_of(finding, document.proofs)
        return found

    def _company(self, document: Document, case: Case, company: Company, states: dict[int, str]) -> Node:
        gpu = step_ms(case, [company])
        more = (company.bytes_after - company.bytes_before) / 1024
        differs = [*company.varies, *(f"texture {s}" for s in company.samplers)]
        label = f"{company.number + 1} {document.frame.passes.names[company.pass_index]}, {_HOW[company.how]}: {', '.join(differs) or 'no value'} differ{'s' if len(differs) < 2 else ''}"
        texts = [
            label, f"{len(company.steps):,}", f"{len(company.parts):,}", f"{cpu_ms(case, [company]):.2f}", "" if gpu is None else f"{gpu:.2f}",
            f"{more:+,.0f}", states.get(company.steps[0], ""),
        ]  # fmt: skip
        return Node(texts, company, len(company.steps), lambda: self._steps(document, company.steps))

    def _steps(self, document: Document, steps: list[int]) -> Iterator[Node]:
        for step in steps:
            yield Node([f"{step:,}  {step_name(document.frame, step)}"], step)

    # ---- one company --------------------------------------------------------------------------------------

    def _chosen(self, node: Node) -> None:
        document = self._document
        if document is None or self._following:
            return
        if isinstance(node.thing, int):
            document.selection.choose(node.thing)
        company = node.thing if isinstance(node.thing, Company) else node.parent.thing if node.parent and isinstance(node.parent.thing, Company) else None
        if company is None:
            return
        if isinstance(node.thing, Company) and document.selection.step not in company.steps:
            document.selection.choose(company.steps[0])
        self._ask_code(document, company)
        self._choose_finding(document, company)

    def _choose_finding(self, document: Document, company: Company) -> None:
        finding = next((f for f in document.findings if f.remedy and f.remedy.kind == "batch" and company.steps[0] in f.steps), None)
        if finding is not None:
            self.findings.choose(finding.id)

    def _finding_chosen(self, finding: Finding | None) -> None:
        """The company of a finding is shown in the tree, without losing a closer choice there."""
        if finding is None or self._following or not finding.steps or self._document is None:
            return
        chosen = self._current_company()
        if chosen is None or chosen.steps[0] not in finding.steps:
            self._show_company(finding.steps[0])

    def _current_company(self) -> Company | None:
        node = self.tree.current
        while node is not None and not isinstance(node.thing, Company):
            node = node.parent
        return node.thing if node else None

    def _show_company(self, step: int) -> None:
        document = self._document
        if document is None or document.structure is None:
            return
        number = int(document.structure.companies.of_step[step])
        for row, node in enumerate(self.tree.nodes.root.children):
            if isinstance(node.thing, Company) and node.thing.number == number:
                self._following = True
                index = self.tree.nodes.index(row, 0)
                self.tree.setCurrentIndex(index)
                self.tree.scrollTo(index)
                self._choose_finding(document, node.thing)
                self._following = False
                self._ask_code(document, node.thing)

    def _follow_selection(self) -> None:
        """A step chosen elsewhere shows its company."""
        document = self._document
        if document is None or document.structure is None or document.selection.step is None or not self.isVisible():
            return
        chosen = self._current_company()
        if chosen is None or document.selection.step not in chosen.steps:
            self._show_company(document.selection.step)

    def _ask_code(self, document: Document, company: Company) -> None:
        def work(_replay: object, _progress: object, _cancelled: object) -> list[Code]:
            return plan_batch(document.frame, company.parts[0], company.how, NewObjects(document.frame)).code

        what = f"{company.label}: {len(company.parts[0])} draws in one" + (f", the first of {len(company.parts)}" if len(company.parts) > 1 else "")
        self._workspace.request_job(
            "code", work, lambda code: self.code.show_code(code, what), lambda error: self.code.show_code([], f"{company.label} cannot be drawn together here: {error}.")
        )
