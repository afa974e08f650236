"""The Findings page: everything worth changing, the largest gain first."""

from __future__ import annotations

from PySide6.QtCore import QSettings

from wendascope.desktop.findings_view import FindingsView
from wendascope.desktop.model import Document, Workspace
from wendascope.desktop.pages._following import FramePage
from wendascope.desktop.pages._registry import page
from wendascope.trials.proof import COMBINED, GAIN


@page("Findings", 75)
class FindingsPage(FramePage):
    def __init__(self, workspace: Workspace, _settings: QSettings) -> None:
        super().__init__(workspace, "What should be changed, and what does it bring?")
        self.findings = FindingsView(workspace)
        self.room.addWidget(self.findings, 1)
        self.follow()

    def figure(self) -> str:
        document = self._workspace.current
        return "" if document is None or document.drawn is None else str(len(document.findings))

    def refresh(self, document: Document | None) -> None:
        self.findings.show_document(document)
        if document is None:
            self.say("")
            return
        if document.drawn is None:
            self.say("Not measured yet.", "Press Ctrl+M to measure the frame and find what to change.")
            return
        proofs = document.proofs
        combined = proofs.get(COMBINED)
        if combined is not None and combined.ratio is not None:
            self.say(f"{len(combined.together)} changes together: {combined.summary}.", f"Verdict: {combined.verdict}. {_counts(document)}")
        elif document.findings:
            known = [f for f in document.findings if f.estimate_ms]
            total = sum(f.estimate_ms or 0.0 for f in known)
            self.say(f"{len(document.findings)} findings, {total:.1f} ms by estimate; what they bring together is for the proofs to tell.", _counts(document))
        else:
            self.say("Nothing to change was found.")


def _counts(document: Document) -> str:
    tried = [p for f in document.findings if (p := document.proofs.get(f.id))]
    can = sum(f.remedy is not None for f in document.findings)
    gains = sum(p.verdict == GAIN for p in tried)
    return f"{can} can be tried here, {len(tried)} tried, {gains} of them proved a gain."
