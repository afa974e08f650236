"""Every kind of record that is added to a `.wend` file: its key, its type, its version, and how older ones are read.

A record is JSON. When the meaning of a type changes, its version grows and `older` gets a function that turns the JSON
of the version before into that of the next; files keep what they hold. From 2 on the version is part of the key in the
file (`proof 2`), so that an older Wendascope does not see what it would misread.
"""

from __future__ import annotations

import importlib
import logging
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any, Generic, TypeVar

import msgspec

from wendascope.frame import file

if TYPE_CHECKING:
    from wendascope.advice.left_out import LeftOuts
    from wendascope.analysis.draws.breaks import Accepted
    from wendascope.analysis.geometry.drawn import Drawn
    from wendascope.analysis.memory.memory_use import MemoryUse
    from wendascope.analysis.sequence.late_views import LateViews
    from wendascope.analysis.sequence.same_steps import SameSteps
    from wendascope.analysis.shaders.reached_code import ReachedCode
    from wendascope.frame.frame import Frame
    from wendascope.frame.notes import Note
    from wendascope.frame.roles import GivenRole
    from wendascope.measure.records import SequenceResults, Survey
    from wendascope.trials.experiments.limits import Limits
    from wendascope.trials.experiments.log import Attempt, Mark
    from wendascope.trials.proofs.proof import Proof
    from wendascope.trials.survey.stages import StageLog, StoredFindings

T = TypeVar("T")
_log = logging.getLogger(__name__)
KINDS: list[RecordKind[Any]] = []
"""Every kind of record there is."""
Older = Callable[[dict[str, Any]], dict[str, Any]]


class RecordKind(Generic[T]):
    """One kind of record. `type_` is `module:Class`, looked up when it is first used: this list imports nobody."""

    def __init__(
        self, key: str, type_: str, version: int = 1, older: Mapping[int, Older] | None = None, oldest: int = 1
    ) -> None:
        self.key = key
        self.version = version
        self.oldest = oldest
        """What versions before it hold cannot be read any more; it is worked out anew."""
        self.older = dict(older or {})
        """Version -> what makes the next version of its JSON."""
        self._where = type_
        KINDS.append(self)

    @property
    def type(self) -> type[T]:
        """The class of its records."""
        module, _, name = self._where.partition(":")
        found: type[T] = getattr(importlib.import_module(f"wendascope.{module}"), name)
        return found

    def key_of(self, version: int) -> str:
        """What records of a version are called in files."""
        return self.key if version == 1 else f"{self.key} {version}"

    def keep(self, path: Path, record: T) -> None:
        """Add a record to a file. Raises FileError."""
        file.add(path, self.key_of(self.version), record)

    def all(self, path: Path) -> list[T]:
        """All records of the kind in a file, oldest first, as this version has them; without those that say of
        themselves (`fits`) that they are of another frame. Raises FileError.
        """
        versions = {self.key_of(version): version for version in range(self.oldest, self.version + 1)}
        found = file.added(path, list(versions), lambda key, text: self.read(versions[key], text))
        fits: Callable[[T, Frame], bool] | None = getattr(self.type, "fits", None)
        if not found or fits is None:
            return found
        frame = file.opened(path)
        fitting = [record for record in found if fits(record, frame)]
        if len(fitting) < len(found):
            _log.warning("%s: %s records of another frame are left out", path.name, self.key)
        return fitting

    def newest(self, path: Path) -> T | None:
        """The record that was added last; None where there is none. Raises FileError."""
        found = self.all(path)
        return found[-1] if found else None

    def read(self, version: int, text: str) -> T:
        """A record from the JSON of some version. Raises msgspec.ValidationError."""
        if version == self.version:
            return msgspec.json.decode(text, type=self.type)
        plain = msgspec.json.decode(text, type=dict[str, Any])
        for number in range(version, self.version):
            if number in self.older:
                plain = self.older[number](plain)
        return msgspec.json.decode(msgspec.json.encode(plain), type=self.type)


_RENAMED = {
    "company": "batch",
    "kin": "mergeable",
    "near-kin": "textured-batch",
    "small-companies": "small-batches",
    "idle-feature": "unused-feature",
    "idle-sheet": "blend-without-effect",
}
"""Version 1 called some rules by other names, and the findings that begin with them; a proof keeps to its finding."""


def _renamed(identity: str) -> str:
    for old, new in _RENAMED.items():
        if identity == old or identity.startswith(f"{old}-"):
            return new + identity.removeprefix(old)
    return identity


def _rename_findings(plain: dict[str, Any]) -> dict[str, Any]:
    for finding in [*plain.get("findings", []), *plain.get("refuted", [])]:
        finding["id"] = _renamed(finding["id"])
        finding["rule"] = _renamed(finding["rule"])
    return plain


def _type_facts(plain: dict[str, Any]) -> dict[str, Any]:
    """Version 2 kept numbers that others compute with among the evidence, by what they were called on screen."""
    for finding in plain.get("findings", []):
        known = finding.get("evidence", {})
        calls = known.get("calls that repeat", known.get("calls overwritten", 0))
        typed = {
            "draws_now": known.get("draws now", 0),
            "draws_together": known.get("draws together", known.get("draws then", 0)),
            "calls": calls,
            "submit_ms": known.get("CPU time of the calls that go, ms", 0.0),
            "own_ms": known.get("program's own time between those calls, ms", 0.0),
        }
        finding.setdefault("facts", typed)
    return plain


def _rename_proof(plain: dict[str, Any]) -> dict[str, Any]:
    together = [_renamed(identity) for identity in plain.get("together", [])]
    return {**plain, "finding": _renamed(plain["finding"]), "together": together}


def _rename_mark(plain: dict[str, Any]) -> dict[str, Any]:
    return {**plain, "trial": _renamed(plain["trial"])}


SURVEY: RecordKind[Survey] = RecordKind("survey", "measure.records:Survey")
"""Times; the newest counts."""
SEQUENCE_RESULTS: RecordKind[SequenceResults] = RecordKind(
    "sequence results", "measure.records:SequenceResults", 2, oldest=2
)
"""Of all frames, kept with the first; the newest counts."""
LATE_VIEWS: RecordKind[LateViews] = RecordKind("late views", "analysis.sequence.late_views:LateViews", 2, oldest=2)
"""Of all frames, kept with the first; the newest counts."""
SAME_STEPS: RecordKind[SameSteps] = RecordKind("same steps", "analysis.sequence.same_steps:SameSteps")
"""Of all frames, kept with the first; the newest counts."""
LEFT_OUT: RecordKind[LeftOuts] = RecordKind("left out", "advice.left_out:LeftOuts")
"""Lights and parts of views; the newest counts."""
REACHED: RecordKind[ReachedCode] = RecordKind("reached code", "analysis.shaders.reached_code:ReachedCode")
"""How often loops of shaders run; the newest counts."""
MEMORY_USE: RecordKind[MemoryUse] = RecordKind("memory use", "analysis.memory.memory_use:MemoryUse")
"""Mip levels read, and values of targets; the newest counts."""
DRAWN: RecordKind[Drawn] = RecordKind("drawn", "analysis.geometry.drawn:Drawn")
"""Layers and triangles of every step; the newest counts."""
STAGES: RecordKind[StageLog] = RecordKind("survey stages", "trials.survey.stages:StageLog")
"""How the stages of a survey ended; the newest counts."""
FINDINGS: RecordKind[StoredFindings] = RecordKind(
    "findings", "trials.survey.stages:StoredFindings", 3, {1: _rename_findings, 2: _type_facts}
)
"""With what was refuted before it was claimed; the newest counts."""
PROOF: RecordKind[Proof] = RecordKind("proof", "trials.proofs.proof:Proof", 2, {1: _rename_proof})
"""One record each; the newest of a finding counts."""
ACCEPTED_BREAK: RecordKind[Accepted] = RecordKind("accepted break", "analysis.draws.breaks:Accepted")
"""One record each; the newest of a reason, name and step counts."""
GIVEN_ROLE: RecordKind[GivenRole] = RecordKind("pass role", "frame.roles:GivenRole")
"""One record each; the newest of a pass counts."""
LIMITS: RecordKind[Limits] = RecordKind("limits", "trials.experiments.limits:Limits")
"""Experiments on a program, or on steps of it; the newest of each counts."""
ATTEMPT: RecordKind[Attempt] = RecordKind("attempt", "trials.experiments.log:Attempt")
"""An edit somebody made, with its remedies and its proof."""
TRIAL_MARK: RecordKind[Mark] = RecordKind("trial mark", "trials.experiments.log:Mark", 2, {1: _rename_mark})
"""Kept, dropped or neither, and a note; the newest of a trial counts."""
KEPT_TOGETHER: RecordKind[Proof] = RecordKind("kept together", "trials.proofs.proof:Proof", 2, {1: _rename_proof})
"""The proof of all kept trials as one frame; the newest counts."""
NOTE: RecordKind[Note] = RecordKind("note", "frame.notes:Note", 2)
"""What somebody wrote on the frame, or on a pass, a step, a finding of it; the newest of each counts."""
