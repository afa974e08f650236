"""What the window shows, without Qt: open documents, the one selection, and who wants to hear of changes."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path

from wendascope import records
from wendascope.advice.findings import Case
from wendascope.advice.left_out import LeftOut
from wendascope.analysis.draws.breaks import Accepted, Breaks
from wendascope.analysis.draws.structure import Structure
from wendascope.analysis.time.budget import Verdict, judge
from wendascope.analysis.time.frame_bound import frame_bound
from wendascope.desktop.models.commands import Commands, FrameJobs, NoCommands, NoJobs
from wendascope.desktop.models.tree import TREES, Node
from wendascope.frame import file
from wendascope.frame.frame import Frame
from wendascope.frame.notes import Note, Subject, newest_notes
from wendascope.frame.origins import introduction
from wendascope.frame.roles import GivenRole, give_roles
from wendascope.measure.pass_pictures import Image
from wendascope.measure.records import Survey, Verification
from wendascope.trials.experiments.limits import Limits, stored_limits
from wendascope.trials.experiments.log import Attempt, Log, Trial, mark, stored_log, trials_of
from wendascope.trials.proofs.proof import Proof, proofs_elsewhere, stored_proofs
from wendascope.trials.survey.examine import (
    Examined,
    Refuted,
    case_of,
    stored_ends,
    stored_examination,
    stored_left_out,
    stored_refuted,
)
from wendascope.trials.survey.stages import StageEnd

_LONGEST_HISTORY = 500


class Observable:
    """Calls its listeners, in the order in which they came. Listening twice is listening once."""

    def __init__(self) -> None:
        self._listeners: list[Callable[[], None]] = []

    def listen(self, listener: Callable[[], None]) -> None:
        if listener not in self._listeners:
            self._listeners.append(listener)

    def changed(self) -> None:
        for listener in list(self._listeners):
            listener()


class Selection(Observable):
    """The step that is chosen everywhere, with a way back. None: the finished picture."""

    def __init__(self) -> None:
        super().__init__()
        self.step: int | None = None
        self.marked: tuple[int, ...] = ()
        """Steps that are shown together with the chosen one, until another is chosen."""
        self._back: list[int | None] = []
        self._forward: list[int | None] = []

    def choose(self, step: int | None) -> None:
        """Choose a step; does nothing when it is already chosen."""
        if step == self.step and not self.marked:
            return
        self.marked = ()
        if step == self.step:
            self.changed()
            return
        self._back.append(self.step)
        del self._back[:-_LONGEST_HISTORY]
        self._forward.clear()
        self.step = step
        self.changed()

    def mark(self, steps: Sequence[int], chosen: int | None = None) -> None:
        """Choose one of some steps, else the first, and show all of them."""
        if steps:
            self.choose(steps[0] if chosen is None else chosen)
            self.marked = tuple(steps)
            self.changed()

    def choose_row(self, node: Node) -> None:
        """What a row of a tree, or a bar of the strip, stands for: a pass for what it ends up with; the steps of a
        group are shown together.
        """
        if node.kind == "group":
            self.mark(node.steps.tolist(), node.last)
        else:
            self.choose(node.last)

    @property
    def can_go_back(self) -> bool:
        return bool(self._back)

    @property
    def can_go_forward(self) -> bool:
        return bool(self._forward)

    def go_back(self) -> None:
        if self._back:
            self._forward.append(self.step)
            self.step = self._back.pop()
            self.changed()

    def go_forward(self) -> None:
        if self._forward:
            self._back.append(self.step)
            self.step = self._forward.pop()
            self.changed()


class Pin(Observable):
    """The pixel that is held for a closer look: (x, y from the bottom), or None."""

    def __init__(self) -> None:
        super().__init__()
        self.at: tuple[int, int] | None = None

    def put(self, at: tuple[int, int] | None) -> None:
        if at != self.at:
            self.at = at
            self.changed()


class Pointed(Observable):
    """The program under the pointer, in whatever view it is; nothing is chosen by it."""

    def __init__(self) -> None:
        super().__init__()
        self.program: int | None = None

    def point(self, program: int | None) -> None:
        if program != self.program:
            self.program = program
            self.changed()


class PassPictures(Observable):
    """Small pictures of the passes as they end up, as far as they were made."""

    def __init__(self) -> None:
        super().__init__()
        self.images: dict[int, Image] = {}
        """Pass -> top row first, shape (h, w, 3)."""

    def show(self, images: dict[int, Image]) -> None:
        self.images = images
        self.changed()


class Document(Observable):
    """One open frame file and what was measured on it. Raises FileError when it cannot be opened."""

    def __init__(self, path: Path) -> None:
        super().__init__()
        self.path = path
        file.work_on(path)
        self.frame: Frame = file.load(path)
        self.frames = file.frame_count(path)
        """How many frames the file holds: a sequence where there are several."""
        self.introduction = introduction(self.frame, file.content_of(path))
        """What to say of a stranger's frame that is opened for the first time, until the user has read it; else
        nothing.
        """
        self.survey: Survey | None = records.SURVEY.newest(path)
        self.drawn, self.findings = stored_examination(path)
        self.refuted: list[Refuted] = stored_refuted(path) if self.drawn is not None else []
        """What looked worth changing and was refuted by replay before it was claimed."""
        self.left_out: list[LeftOut] = stored_left_out(path) if self.drawn is not None else []
        """Lights and parts of views, and what the picture is without each, as far as that was tried."""
        self.stage_ends: dict[str, StageEnd] = stored_ends(path) if self.survey is not None else {}
        """How each stage of the newest survey ended that is over."""
        self.memory_use = records.MEMORY_USE.newest(path) if self.drawn is not None else None
        self.proofs: dict[str, Proof] = stored_proofs(path)
        self.elsewhere: list[str] = proofs_elsewhere(path)
        """What to say of proofs that were made on another driver."""
        self.notes: dict[Subject, str] = newest_notes(records.NOTE.all(path))
        """What somebody wrote, on the frame and on parts of it."""
        self._given_roles = records.GIVEN_ROLE.all(path)
        self.accepted: list[Accepted] = records.ACCEPTED_BREAK.all(path)
        self.limits: dict[tuple[int, ...], Limits] = stored_limits(path)
        self.log: Log = stored_log(path)
        self.verification: Verification | None = self.survey.verification if self.survey else None
        """Whether the replay is the captured picture, as it was last looked at; None before."""
        self.structure: Structure | None = None
        """What follows from the calls alone; worked out in the background once the document is shown."""
        self._case: Case | None = None
        self._case_made_of: tuple[object, ...] = ()
        self.selection = Selection()
        self.pin = Pin()
        self.pointed = Pointed()
        self.pass_pictures = PassPictures()

    def prepare(self) -> None:
        """Work out what every view asks of a frame, before it is shown."""
        _ = self.frame.passes.names, self.frame.pass_roles, self.frame.memory, self.frame.cpu_lane

    def set_examined(self, found: Examined) -> None:
        self.survey, self.drawn, self.findings, self.refuted = found.survey, found.drawn, found.findings, found.refuted
        self.left_out, self.memory_use = found.left_out, found.memory_use
        self.verification = found.survey.verification
        self.stage_ends = found.ends or self.stage_ends
        self.changed()

    @property
    def examined(self) -> Examined | None:
        """The examination as it is known; None before there was one."""
        if self.survey is None or self.drawn is None:
            return None
        known = self.findings, self.refuted, self.left_out, self.memory_use
        return Examined(self.frame, self.survey, self.drawn, *known)

    def set_introduction(self, text: str) -> None:
        self.introduction = text
        self.changed()

    def set_verification(self, found: Verification) -> None:
        self.verification = found
        self.changed()

    @property
    def case(self) -> Case:
        """What rules and estimates look at, as far as it was measured."""
        made_of = self.frame.pass_roles, self.drawn, self.survey, self.structure
        if self._case is None or any(a is not b for a, b in zip(made_of, self._case_made_of, strict=True)):
            self._case_made_of = made_of
            self._case = case_of(self.frame, self.drawn, self.survey)
            self._case.known_sharing = self.structure.sharing if self.structure is not None else None
        return self._case

    def set_structure(self, found: Structure) -> None:
        self.structure = found
        self.changed()

    def set_breaks(self, found: Breaks) -> None:
        """After a break was accepted or taken back."""
        if self.structure is not None:
            self.structure.breaks = found
            self.changed()

    def accept_break(self, item: Accepted) -> None:
        """Keep in the file that a break is accepted, or no longer. Raises FileError and changes nothing when it
        cannot.
        """
        records.ACCEPTED_BREAK.keep(self.path, item)
        self.accepted.append(item)

    def give_role(self, pass_index: int, role: str) -> None:
        """Keep in the file what a pass does, or with an empty role that it is worked out again. Raises FileError and
        changes nothing when it cannot.
        """
        item = GivenRole(pass_index, role)
        records.GIVEN_ROLE.keep(self.path, item)
        self._given_roles.append(item)
        give_roles(self.frame, self._given_roles)
        self.changed()

    def write_note(self, subject: Subject, text: str) -> None:
        """Keep in the file what somebody writes; nothing takes it back. Raises FileError and changes nothing when it
        cannot.
        """
        note = Note(text.strip(), subject)
        if note.text == self.notes.get(subject, ""):
            return
        records.NOTE.keep(self.path, note)
        self.notes = newest_notes([*(Note(old, known) for known, old in self.notes.items()), note])
        self.changed()

    def reload_proofs(self) -> None:
        self.proofs, self.elsewhere = stored_proofs(self.path), proofs_elsewhere(self.path)
        self.changed()

    def add_proofs(self, proofs: list[Proof]) -> None:
        self.proofs |= {proof.finding: proof for proof in proofs}
        self.changed()

    @property
    def trials(self) -> list[Trial]:
        """Everything that was tried, the newest first."""
        return trials_of(self.log, self.findings, self.proofs, self.limits.values())

    def add_limits(self, found: Limits) -> None:
        self.limits[found.subject] = found
        self.changed()

    def add_attempt(self, made: Attempt) -> None:
        self.log.attempts.append(made)
        self.changed()

    def mark_trial(self, trial: str, state: str, note: str) -> None:
        """Keep in the file what somebody thinks of a trial. Raises FileError and changes nothing when it cannot."""
        self.log.marks[trial] = mark(self.path, trial, state, note)
        self.changed()

    def set_together(self, proof: Proof) -> None:
        self.log.together = proof
        self.changed()

    def verdict(self, budget_ms: float) -> Verdict | None:
        """The answer to whether it is over budget; None before anything was measured."""
        if self.survey is None:
            return None
        cpu = self.survey.cpu
        return judge(
            self.survey.frame_ms.median,
            cpu.calls_ms + cpu.program_ms,
            [p.ms for p in self.survey.passes],
            budget_ms,
            frame_bound(self.frame),
        )

    def next_step(self, by: int) -> None:
        """Choose the step `by` further on, within the frame."""
        last = len(self.frame.steps) - 1
        if last < 0:
            return
        step = self.selection.step
        start = (last + 1 if by < 0 else -1) if step is None else step
        self.selection.choose(min(max(start + by, 0), last))

    def next_pass(self, by: int) -> None:
        """Choose the last step of the pass `by` further on: the pass as it ends up."""
        passes = self.frame.passes
        if len(passes) == 0:
            return
        step = self.selection.step
        now = (len(passes) if by < 0 else -1) if step is None else int(passes.of_step[step])
        wanted = min(max(now + by, 0), len(passes) - 1)
        self.selection.choose(int(passes.end[wanted]) - 1)


class Workspace(Observable):
    """All open documents and the one shown."""

    def __init__(self, budget_ms: float) -> None:
        super().__init__()
        self.commands: Commands = NoCommands()
        self.jobs: FrameJobs = NoJobs()
        """What views ask of the window."""
        self.documents: list[Document] = []
        self.current: Document | None = None
        self.budget_ms = budget_ms
        self.grouping = "pass"
        """What tables of steps and the strip are grouped by: one of `tree.TREES`."""

    def find(self, path: Path) -> Document | None:
        """The open document of a file."""
        resolved = path.resolve()
        return next((d for d in self.documents if d.path == resolved), None)

    def add(self, document: Document) -> None:
        """Show a document, which may be open already."""
        if document not in self.documents:
            self.documents.append(document)
        self.current = document
        self.changed()

    def show(self, document: Document) -> None:
        if document is not self.current:
            self.current = document
            self.changed()

    def close(self, document: Document) -> None:
        """Close a document; its neighbour is shown instead."""
        at = self.documents.index(document)
        self.documents.remove(document)
        if self.current is document:
            self.current = self.documents[min(at, len(self.documents) - 1)] if self.documents else None
        self.changed()

    def set_budget(self, ms: float) -> None:
        if ms != self.budget_ms:
            self.budget_ms = ms
            self.changed()

    def set_grouping(self, by: str) -> None:
        """Group steps by one of `tree.TREES` everywhere; what is none of them changes nothing."""
        if by in TREES and by != self.grouping:
            self.grouping = by
            self.changed()
