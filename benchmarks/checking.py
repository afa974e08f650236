"""Checks of budgets under load: whether they say the same of an unchanged frame, and see what was planted."""

from __future__ import annotations

import dataclasses
import tempfile
import time
from collections import Counter
from collections.abc import Iterator
from pathlib import Path

import numpy as np

from benchmarks.proving import loaded
from benchmarks.replaying import DEMO, Row
from wendascope.backends.opengl.calls.packed import in_order
from wendascope.backends.opengl.frame import OpenGLFrame, opengl_frame
from wendascope.frame.call_use import NO_STATE, STEP
from wendascope.frame.file import load, save
from wendascope.frame.numbers import Ints
from wendascope.trials.checks.budget import Budget, Limit, Unsure
from wendascope.trials.checks.checking import State, check_files

_RUNS = 10
_SUBMISSION, _WORK = 0.05, 0.10
_BUDGET = Budget(1, [Limit("submission ms", "+2 %"), Limit("work ms", "+4 %")], Unsure.PASS, 60.0)


def _repeated(frame: OpenGLFrame, again: Ints) -> OpenGLFrame:
    order = np.sort(np.concatenate([np.arange(len(frame.calls)), again]), kind="stable")
    return dataclasses.replace(frame, calls=in_order(frame.calls, order))


def _more_submission(frame: OpenGLFrame) -> OpenGLFrame:
    """Calls that set state are repeated until recorded CPU time is a twentieth more."""
    use, ms = frame.call_use().use, frame.call_ms
    setting = np.random.default_rng(1).permutation(np.flatnonzero((use != NO_STATE) & (use != STEP)))
    wanted = int(np.searchsorted(np.cumsum(ms[setting]), _SUBMISSION * ms.sum())) + 1
    return _repeated(frame, np.sort(setting[:wanted]))


def _more_work(frame: OpenGLFrame) -> OpenGLFrame:
    """The pass that colours the finished picture is drawn again: it covers all of it, and changes nothing."""
    index = next(i for i, name in enumerate(frame.passes.names) if name.startswith("grade"))
    draw = int(frame.passes.end[index]) - 1
    return _repeated(frame, np.array([int(frame.steps.call[draw])]))


def _states(path: Path) -> tuple[State, State]:
    submission, work = check_files([path], _BUDGET, path, DEMO).frames[0].checks
    return submission.state, work.state


def checks() -> Iterator[Row]:
    frame = opengl_frame(load(DEMO))
    with tempfile.TemporaryDirectory() as folder, loaded(True):
        same, slower, longer = (Path(folder) / f"{name}.wend" for name in ("same", "slower", "longer"))
        for path, made in ((same, frame), (slower, _more_submission(frame)), (longer, _more_work(frame))):
            save(made, path)
        found = {}
        for path in (same, slower, longer):
            started = time.monotonic()
            found[path] = [_states(path) for _ in range(_RUNS)]
            seconds = (time.monotonic() - started) / _RUNS
            yield f"a check of {path.stem}, two busy loops beside", f"{seconds:.0f} s", ""
    unchanged = Counter(State.OVER in states for states in found[same])
    yield "unchanged, under load: checks that pass", f"{unchanged[False]} of {_RUNS}", "all"
    told = sum(states == (State.WITHIN, State.WITHIN) for states in found[same])
    yield "of them told for both times", f"{told} of {_RUNS}", ""
    caught = sum(states[0] is State.OVER for states in found[slower])
    yield "5 % more submission, under load, limit +2 %: caught", f"{caught} of {_RUNS}", ">= 96 %"
    caught = sum(states[1] is State.OVER for states in found[longer])
    yield "10 % more work of the GPU, under load, limit +4 %: caught", f"{caught} of {_RUNS}", ">= 96 %"


BENCHMARKS = {"checks": checks}
