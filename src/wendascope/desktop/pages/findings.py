"""The Findings page: everything worth changing, the largest gain first."""

from __future__ import annotations

from collections import Counter

from PySide6.QtCore import QSettings

from wendascope.analysis.time.shares import Part
from wendascope.desktop.models.document import Document, Workspace
from wendascope.desktop.pages._following import FramePage
from wendascope.desktop.pages._registry import page
from wendascope.desktop.views.findings_view import FindingsView
from wendascope.texts import capital, plural, verb
from wendascope.trials.proofs.proof import UNTRIED, Proof, newest_together, state_of
from wendascope.trials.proofs.verdicts import VERDICTS, Verdict


@page("Findings", 75)
class FindingsPage(FramePage):
    guide = "over-budget"
    stages = ("rules", "claims")

    def __init__(self, workspace: Workspace, _settings: QSettings) -> None:
        super().__init__(workspace, "What should be changed, and what does it bring?")
        self.findings = FindingsView(workspace)
        self.room.addWidget(self.findings, 1)
        self.follow()

    def figure(self) -> str:
        document = self._workspace.current
        return "" if document is None or document.drawn is None else str(len(document.findings))

    def choose(self, identity: str) -> None:
        """Choose a finding."""
        self.findings.choose(identity)

    def refresh(self, document: Document | None) -> None:
        self.findings.show_document(document)
        if document is None:
            self.say("")
            return
        if document.drawn is None:
            self.say("Not measured yet.", "Press Ctrl+M to measure the frame and find what to change.")
            return
        proofs = document.proofs
        combined = newest_together(proofs)
        if combined is not None and combined.ratio is not None:
            left = _excluded(combined)
            self.say(
                f"{plural(len(combined.together), 'change')} together: {combined.told_verdict}.",
                f"{capital(combined.together_summary)}. {_sides(combined)}{_counts(document)}{left}",
                _states(document),
            )
        elif document.findings:
            self.say(
                f"{plural(len(document.findings), 'finding')}; nothing is proved together yet.",
                _counts(document),
                _states(document),
            )
        else:
            self.say("Nothing to change was found.", _refuted(document))
        excluded = combined.excluded if combined is not None else []
        self.evidence.setToolTip("\n".join([*(f"{item.title}: {item.reason}" for item in document.refuted), *excluded]))


def _states(document: Document) -> list[Part]:
    """How many findings stand where: those that save time first."""
    counts = Counter(state_of(finding, document.proofs) for finding in document.findings)
    return [Part(f"{state}: {counts[state]}", counts[state], state == Verdict.SAVES) for state in (*VERDICTS, UNTRIED)]


def _excluded(combined: Proof) -> str:
    """How many are not among the changes made together, by the reason; each of them is in the tip."""
    reasons = Counter(text.rpartition(": ")[2] for text in combined.excluded)
    parts = ", ".join(f"{count} ({reason})" for reason, count in reasons.most_common())
    return f" Left out: {parts}." if parts else ""


def _sides(combined: Proof) -> str:
    """What became of submission, and what the frame is bound by."""
    parts = [f"Submission: {combined.submission}" if combined.submission else "", capital(combined.bound)]
    return "".join(f"{part}. " for part in parts if part)


def _counts(document: Document) -> str:
    tried = [p for f in document.findings if (p := document.proofs.get(f.id))]
    can = sum(f.remedy is not None for f in document.findings)
    gains = sum(p.verdict == Verdict.SAVES for p in tried)
    return (
        f"{can} can be tried here, {len(tried)} tried, {gains} {verb(gains, 'saves', 'save')} time."
        f" {_refuted(document)}".rstrip()
    )


def _refuted(document: Document) -> str:
    """How many more were refuted; which, is in the tool tip."""
    count = len(document.refuted)
    return f"{count} more {'was' if count == 1 else 'were'} refuted by replay before being claimed." if count else ""
