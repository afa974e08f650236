"""What the frames of a sequence come to, pass by pass, by replaying all of them; and what their steps depend on. Both
once for a file.
"""

from __future__ import annotations

from pathlib import Path

import numpy as np

from wendascope import records
from wendascope.analysis.memory.sums import is_unused
from wendascope.analysis.sequence.same_steps import FrameInputs, SameSteps, same_steps
from wendascope.frame.file import frame_count, load
from wendascope.frame.places import frame_path
from wendascope.measure.pass_results import pass_results
from wendascope.measure.records import SequenceResults
from wendascope.replay.client import Replay
from wendascope.task import QUIET, Task


def sequence_results(
    path: Path,
    task: Task = QUIET,
) -> SequenceResults:
    """The results kept in the file that a path names, else those of replaying its frames, which are kept then. Raises
    FileError, ReplayError, CancelledError.
    """
    first = frame_path(path, 1)
    known = records.SEQUENCE_RESULTS.newest(first)
    if known is not None:
        return known
    found = SequenceResults([], [], [])
    count = frame_count(first)
    with Replay(first) as replay:
        for number in range(1, count + 1):
            of_frame = task.one_of("frame", number, count)
            of_frame.progress("results of its passes", 0.0)
            replay.turn_to(number)
            found.digests.append(replay.run(pass_results.asked(), of_frame))
            passes = load(frame_path(first, number)).passes
            found.keys.append(list(passes.keys))
            found.names.append(list(passes.short_names))
    records.SEQUENCE_RESULTS.keep(first, found)
    return found


def sequence_steps(
    path: Path,
    task: Task = QUIET,
) -> SameSteps:
    """The steps that all frames share, kept in the file that a path names; else worked out and kept. Raises FileError,
    CancelledError.
    """
    first = frame_path(path, 1)
    known = records.SAME_STEPS.newest(first)
    if known is not None:
        return known
    rows = []
    count = frame_count(first)
    for number in range(1, count + 1):
        task.one_of("frame", number, count).progress("what its steps depend on", 0.0)
        frame = load(frame_path(first, number))
        numbers, sure = frame.step_inputs
        keys = frame.passes.keys
        rows.append(
            FrameInputs(np.where(sure, numbers, 0).tolist(), [keys[index] for index in frame.passes.of_step.tolist()])
        )
    found = same_steps(rows)
    records.SAME_STEPS.keep(first, found)
    return found


def unused_objects(path: Path, task: Task = QUIET) -> list[list[str | int]]:
    """Class and name of every object that all frames of a sequence have and none of them uses. Raises FileError,
    CancelledError.
    """
    first = frame_path(path, 1)
    found: set[tuple[str, int]] | None = None
    for number in range(1, frame_count(first) + 1):
        task.check()
        unused = {(i.object_class, i.name) for i in load(frame_path(first, number)).memory if is_unused(i)}
        found = unused if found is None else found & unused
        if not found:
            break
    return [[kind, name] for kind, name in sorted(found or set())]
