"""Python work in a process of its own: what is sent and returned, what is told meanwhile, and how it ends."""

from __future__ import annotations

import os
import threading
import time
from collections.abc import Iterator
from pathlib import Path

import msgspec
import numpy as np
import pytest

from tests.conftest import DATA
from wendascope.analysis.guidelines import Guidelines, adopt, guidelines
from wendascope.errors import CancelledError, InternalError, TrialError
from wendascope.frame.file import load
from wendascope.frame.frame import Frame
from wendascope.frame.roles import PassRole, Role, take_roles
from wendascope.task import QUIET, Task
from wendascope.trials.frame_process import FrameProcess
from wendascope.trials.survey.apart import study_calls, survey_stage

SIGNAL_BOX = DATA / "signal-box.wend"


def doubled(task: Task, frame: Frame, values: np.ndarray) -> tuple[Frame, np.ndarray, int]:
    task.tell("doubling", 0.5)
    return frame, values * 2, os.getpid()


def lasting(task: Task, seconds: float) -> str:
    until = time.monotonic() + seconds
    while time.monotonic() < until:
        task.progress("waiting", 0.1)
        time.sleep(0.01)
    return "over"


def refused(_task: Task) -> None:
    raise TrialError("it cannot be tried")


def broken(_task: Task) -> None:
    raise KeyError("nobody knows")


def ended(_task: Task) -> None:
    os._exit(3)


def role_of_first(_task: Task, frame: Frame) -> tuple[Role, str]:
    return frame.pass_roles[0].role, frame.passes.short_names[0]


def limits_there(_task: Task) -> Guidelines:
    return guidelines()


@pytest.fixture(scope="module")
def frame() -> Frame:
    return load(SIGNAL_BOX)


@pytest.fixture
def process(monkeypatch: pytest.MonkeyPatch) -> Iterator[FrameProcess]:
    monkeypatch.setenv("PYTHONPATH", str(Path(__file__).parent.parent))
    with FrameProcess(SIGNAL_BOX, niceness=5) as made:
        yield made


def test_the_frame_is_named_and_arrays_can_be_written(process: FrameProcess, frame: Frame) -> None:
    told: list[tuple[str, float]] = []
    task = Task(lambda what, part: told.append((what, part)))
    same, values, pid = process.run(frame, task, doubled, frame, np.arange(5.0))
    assert same is frame and pid != os.getpid() and told == [("doubling", 0.5)]
    values[0] = 7
    assert values.tolist() == [7, 2, 4, 6, 8]
    assert process.run(frame, QUIET, doubled, frame, np.arange(1.0))[2] == pid, "the process stays"


def test_what_fails_there_fails_here(process: FrameProcess, frame: Frame) -> None:
    with pytest.raises(TrialError, match="it cannot be tried"):
        process.run(frame, QUIET, refused)
    with pytest.raises(InternalError, match="KeyError") as caught:
        process.run(frame, QUIET, broken)
    assert "nobody knows" in str(caught.value.__cause__)
    with pytest.raises(InternalError, match="ended with 3"):
        process.run(frame, QUIET, ended)
    assert process.run(frame, QUIET, lasting, 0.0) == "over", "it is started again"


def test_it_hears_that_it_is_cancelled_and_goes_on_with_the_next(process: FrameProcess, frame: Frame) -> None:
    began = time.monotonic()
    cancelled = threading.Event()
    threading.Timer(1.0, cancelled.set).start()
    with pytest.raises(CancelledError):
        process.run(frame, Task(cancelled=cancelled.is_set), lasting, 60.0)
    assert time.monotonic() - began < 20
    # cancelled as it ends: what comes too late is not taken for the next call
    late = iter([False, True])
    assert process.run(frame, Task(cancelled=lambda: next(late, True)), doubled, frame, np.arange(1.0))
    assert process.run(frame, QUIET, lasting, 0.0) == "over"


def test_closing_it_ends_what_it_does(process: FrameProcess, frame: Frame) -> None:
    threading.Timer(1.0, process.close).start()
    with pytest.raises(CancelledError):
        process.run(frame, QUIET, lasting, 60.0)


def test_it_knows_what_the_user_changed(process: FrameProcess) -> None:
    frame = load(SIGNAL_BOX)
    roles = [PassRole(Role.OTHER if i else Role.REFLECTION, ["Given."]) for i in range(len(frame.passes))]
    assert process.run(frame, QUIET, role_of_first, frame)[0] != Role.REFLECTION
    take_roles(frame, roles)
    role, name = process.run(frame, QUIET, role_of_first, frame)
    assert role == Role.REFLECTION and name == frame.passes.short_names[0]
    known = guidelines()
    adopt(msgspec.structs.replace(known, steps=known.steps[:1]))
    try:
        assert len(process.run(frame, QUIET, limits_there).steps) == 1
    finally:
        adopt(known)


def test_what_a_study_finds_there_is_what_it_finds_here(process: FrameProcess, frame: Frame) -> None:
    there, here = process.run(frame, QUIET, study_calls, frame, [], None), study_calls(QUIET, frame, [], None)
    assert there.sharing.frame is frame and there.batches.of_step.tolist() == here.batches.of_step.tolist()
    assert [len(r.pairs) for r in there.breaks.reasons] == [len(r.pairs) for r in here.breaks.reasons]
    assert there.switches == here.switches


@pytest.mark.driver
def test_a_survey_goes_on_from_stage_to_stage(tmp_path: Path) -> None:
    path = tmp_path / "signal-box.wend"
    path.write_bytes(SIGNAL_BOX.read_bytes())
    frame = load(path)
    with FrameProcess(path) as process:
        first = process.run(frame, QUIET, survey_stage, frame, path, True, False)
        assert first is not None and first.frame is frame and list(first.ends) == ["times"] and first.drawn is None
        second = process.run(frame, QUIET, survey_stage, frame, path, False, False)
    assert second is not None and list(second.ends) == ["times", "coverage"] and second.drawn is not None
