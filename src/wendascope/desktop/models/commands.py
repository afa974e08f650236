"""What views ask of the window, without knowing it; and the jobs that they hand to it."""

from __future__ import annotations

from collections.abc import Callable
from enum import StrEnum
from pathlib import Path
from typing import Concatenate, ParamSpec, Protocol, TypeVar

from wendascope.advice.findings import Finding
from wendascope.frame.remedy import Remedy
from wendascope.replay.client import Replay
from wendascope.task import Task
from wendascope.trials.proofs.proof import Proof
from wendascope.trials.proofs.runs import Beside

T = TypeVar("T")
P = ParamSpec("P")
Work = Callable[[Replay, Task], T]
"""What a job does in the background: with the document's replay process."""
Failed = Callable[[Exception], None]


class JobName(StrEnum):
    """Jobs of a document. Where a job may be replaced, a later one of its name takes the place of one that waits."""

    PICTURE = "picture"
    PASS_PICTURES = "pass pictures"
    OBJECT_CONTENTS = "object contents"
    OUTLINE = "outline"
    PIXEL_STACK = "pixel stack"
    MESH_TABLE = "mesh table"
    MESH_PICTURE = "mesh picture"
    CHANGED_PICTURE = "changed picture"
    SHADER_EDIT = "shader edit"
    ITERATIONS = "iterations"
    PROGRAMS = "programs"
    BATCH_CODE = "batch code"
    STEP_OBJECTS = "step objects"
    BESIDE = "picture beside"
    REMEDY_CODE = "remedy code"
    BREAKS = "breaks"
    KEYS = "keys to unify"
    ATLAS = "atlas"
    ATLAS_PAGE = "atlas page"
    TRIAL_FILES = "trial files"
    STUDY = "study"
    VERIFY = "verify"
    CONFINEMENT = "confinement"
    SEQUENCE = "sequence"
    REPORT = "report"
    TRAFFIC = "traffic"
    COMPARE = "compare"
    SURVEY = "survey"
    """One stage after another; what somebody asks for meanwhile comes between two of them."""
    MEASURE = "measure"
    """Proofs and experiments: one at a time, with progress in the header and a way to cancel."""


class Commands(Protocol):
    """What the window does for its views."""

    def open_files(self, paths: list[Path]) -> None:
        """Open files; bad ones are complained about there."""

    def choose_files(self) -> None:
        """Ask which files to open."""

    def open_demo(self) -> None:
        """Open the demo frames."""

    def compare(self, before: Path, after: Path) -> None:
        """Show the comparison of two files."""

    def show_finding(self, identity: str) -> None:
        """Go to the Findings page, with one of them chosen."""


class FrameJobs(Protocol):
    """Work in the background for the shown document, as views see it."""

    def measuring(self) -> bool:
        """Whether a long job runs for the shown document."""
        ...

    def measure(self, resume: bool = False) -> None:
        """Survey the shown document; with `resume`, only what is missing of its survey."""

    def prove(self, findings: list[Finding]) -> None:
        """Prove findings of the shown document; all together as well when there are several."""

    def show_changed_picture(self, remedies: list[Remedy], title: str) -> None:
        """Show the picture of the frame with some remedies, and where it differs."""

    def show_difference(self, found: Beside, title: str) -> None:
        """Show the picture of an edited frame, and where it differs."""

    def run_job(self, name: JobName, work: Work[T], done: Callable[[T], None], failed: Failed) -> None:
        """Run a job for the shown document; a later one of its name replaces it."""

    def compute(
        self, name: JobName, done: Callable[[T], None], failed: Failed, function: Callable[Concatenate[Task, P], T],
        *arguments: P.args, **named: P.kwargs,
    ) -> None:  # fmt: skip
        """Call a function that a module defines in the Python process of the shown document, so that the window goes on
        meanwhile; a later call of the same name takes its place.
        """

    def run_measurement(self, work: Work[T], done: Callable[[T], None], failure: str) -> None:
        """Run a long job for the shown document; `failure` is the title of what is said when it fails."""

    def proof_made(self) -> Callable[[Proof], None]:
        """What work of the shown document calls with each new proof, from whatever thread."""
        ...


class NoCommands:
    """Before there is a window: nothing happens."""

    def open_files(self, paths: list[Path]) -> None: ...

    def choose_files(self) -> None: ...

    def open_demo(self) -> None: ...

    def compare(self, before: Path, after: Path) -> None: ...

    def show_finding(self, identity: str) -> None: ...


class NoJobs:
    """Before there is a window: nothing is run."""

    def measuring(self) -> bool:
        return False

    def measure(self, resume: bool = False) -> None: ...

    def prove(self, findings: list[Finding]) -> None: ...

    def show_changed_picture(self, remedies: list[Remedy], title: str) -> None: ...

    def show_difference(self, found: Beside, title: str) -> None: ...

    def run_job(self, name: JobName, work: Work[T], done: Callable[[T], None], failed: Failed) -> None: ...

    def compute(
        self, name: JobName, done: Callable[[T], None], failed: Failed, function: Callable[Concatenate[Task, P], T],
        *arguments: P.args, **named: P.kwargs,
    ) -> None: ...  # fmt: skip

    def run_measurement(self, work: Work[T], done: Callable[[T], None], failure: str) -> None: ...

    def proof_made(self) -> Callable[[Proof], None]:
        return lambda _proof: None
