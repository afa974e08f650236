"""Captures the programs of one process one after the other, and looks at each as a user does, in this process."""

from __future__ import annotations

import os
import sys
import time
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import Any, TypeVar

from wendascope.advice.findings import Finding
from wendascope.backends.doors import Session
from wendascope.backends.opengl.frame import OpenGLFrame, opengl_frame
from wendascope.backends.opengl.session import OpenGLSession
from wendascope.measure.calibrate import calibrate
from wendascope.measure.records import Calibration, Survey
from wendascope.replay.jobs import Asked
from wendascope.replay.progress import Job
from wendascope.tap.launch import Target, Trigger
from wendascope.task import Task
from wendascope.trials.proofs.proof import Proof, measured_proof
from wendascope.trials.survey.examine import Examined, examine

R = TypeVar("R")

SECONDS = 3.0
"""Pairs of a proof: the fewest that an interval needs."""
SURVEYS = 2
"""Timed runs of a survey: no test here looks at times."""
SETTLED = 6
"""Frames of a program before one is taken."""


_known_clocks: list[Calibration] = []


def calibrate_once(session: Session, job: Task) -> Calibration:
    """In the place of `calibrate`: the driver of this process stays what it is, whatever program is replayed."""
    if not _known_clocks:
        _known_clocks.append(calibrate(session, job))
    return _known_clocks[0]


class LocalReplay:
    """A session in this process in the place of a replay process: jobs pass through the same encoding."""

    def __init__(self, frame: OpenGLFrame) -> None:
        self.session = OpenGLSession(frame)

    def run(self, asked: Asked[R], *_: Any, **_more: Any) -> R:
        return asked.job.result(asked.job.run(self.session, Job(), asked.arguments))

    def without_drawing(self) -> None:
        """No second process: what the API costs is not asked here."""

    def close(self) -> None:
        self.session.close()


@dataclass
class Looked:
    """A program, captured and examined."""

    name: str
    frame: OpenGLFrame

    @cached_property
    def replay(self) -> LocalReplay:
        return LocalReplay(self.frame)

    @cached_property
    def examined(self) -> Examined:
        return examine(self.frame, self.replay, SURVEYS)  # type: ignore[arg-type]

    @property
    def survey(self) -> Survey:
        return self.examined.survey

    @property
    def findings(self) -> list[Finding]:
        return self.examined.findings

    def of(self, rule: str) -> list[Finding]:
        return [f for f in self.findings if f.rule == rule]

    def prove(self, *findings: Finding) -> Proof:
        remedies = [f.remedy for f in findings if f.remedy]
        return measured_proof(self.frame, findings[0].id, remedies, self.replay, SECONDS)  # type: ignore[arg-type]

    def close(self) -> None:
        if "replay" in self.__dict__:
            self.replay.close()


class Gallery:
    """The process that draws whatever program is named."""

    def __init__(self, folder: Path, settled: int = SETTLED) -> None:
        self._settled = settled
        self._order, self._answer = folder / "order", folder / "answer"
        self._order.write_text("")
        self._program = [sys.executable, str(Path(__file__).parent / "_target.py"), str(self._order), str(self._answer)]
        self._target: Target | None = None

    def take(self, name: str, odd: int = 0) -> OpenGLFrame:
        """A frame of a program that goes on then, an odd or an even one."""
        self._order.write_text(name)
        if self._target is not None and self._target.process.poll() is not None:
            self.close()  # the program before did not end well
        if self._target is None:
            self._target = Target(self._program, environment=dict(os.environ))
            self._target.connect(Trigger(frame=1 << 40), 60.0)
        target = self._target
        deadline = time.monotonic() + 60
        while not (answer := self._answered(name)):
            target.poll(0.02)
            assert time.monotonic() < deadline, f"{name} was not drawn: {target.output.tail}"
        before = int(answer)  # frames of the programs before: a fast one leaves thousands of messages unread
        while not target.frame_statistics or target.frame_statistics[-1].frame <= before:
            target.poll(0.05)
            assert time.monotonic() < deadline, f"{name} sends no frame statistics: {target.output.tail}"
        while target.frame_statistics[0].frame <= before:
            target.frame_statistics.popleft()
        frame = target.frame_statistics[-1].frame + self._settled
        return opengl_frame(target.capture(Trigger(frame=frame + (frame + odd) % 2), 60.0))

    def _answered(self, name: str) -> str:
        """Frames drawn before the first of this program; nothing while it was not begun."""
        drawn, _, before = (self._answer.read_text() if self._answer.exists() else "").rpartition(" ")
        return before if drawn == name else ""

    def close(self) -> None:
        if self._target is not None:
            self._target.stop()
            self._target = None
