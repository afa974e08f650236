"""Which loops of its fragment shaders a frame reaches: the shaders note it, in one replay for all."""

from __future__ import annotations

import numpy as np

from wendascope.analysis.reached_code import ReachedCode, ReachedLoop
from wendascope.backends.opengl.changes.frame_change import FrameChange
from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.backends.opengl.objects.compiled import compiled_program
from wendascope.backends.opengl.objects.records import ProgramRecord
from wendascope.backends.opengl.session import OpenGLSession
from wendascope.errors import ReplayError, TrialError
from wendascope.glsl.rewriting.iterations import Loop
from wendascope.glsl.rewriting.reached import noted_loops, with_loops_noted
from wendascope.replay.jobs import remote
from wendascope.task import Task
from wendascope.trials.noting import BINDING, cannot_note, fragment_source, run_noting, with_fragment

_MOST_LOOPS = 4096


@remote
def reached_code(session: OpenGLSession, job: Task) -> ReachedCode:
    """Replay the frame once with shaders that note how often their loops run. The picture has to stay what it is.
    Raises ReplayError, CancelledError.
    """
    frame = session.frame
    refused = cannot_note(session)
    if refused:
        return ReachedCode(refused=refused)
    job.progress("preparing shaders that note where they run", 0.0)
    change = FrameChange(frame)
    loops = _change_programs(frame, change)
    if not loops:
        return ReachedCode()
    notes = bytes(4 * len(loops))
    job.progress("replaying with shaders that note where they run", 0.3)
    try:
        found = run_noting(session, frame, change, notes, [(0, 0)], len(notes))
    except (ReplayError, TrialError) as error:
        return ReachedCode(refused=str(error))
    if found is None:
        return ReachedCode(refused="the picture changes while loops are noted")
    counts = np.frombuffer(found, np.uint32).tolist()
    return ReachedCode(
        [ReachedLoop(program, loop.line, loop.last_line, n) for (program, loop), n in zip(loops, counts, strict=True)]
    )


def _change_programs(frame: OpenGLFrame, change: FrameChange) -> list[tuple[int, Loop]]:
    """(program, loop) for each place of the notes, with the programs changed so that they note."""
    places: list[tuple[int, Loop]] = []
    for name in np.unique(frame.steps.program).tolist():
        record = frame.objects.program(name)
        if record is None or record.storage_blocks or record.binary:
            continue
        try:
            found = _changed(compiled_program(record, frame.context.dialect), len(places), frame.context.es)
        except TrialError:
            continue
        if found is not None and len(places) + len(found[1]) <= _MOST_LOOPS:
            change.replace_program(name, found[0])
            places += [(name, loop) for loop in found[1]]
    return places


def _changed(program: ProgramRecord, first_slot: int, es: bool) -> tuple[ProgramRecord, list[Loop]] | None:
    """The program with a fragment shader that notes, and its loops; None where it has none."""
    source = fragment_source(program)
    if not source:
        return None
    loops = noted_loops(source)
    if not loops:
        return None
    return with_fragment(program, lambda: with_loops_noted(source, first_slot, BINDING, es), es), loops
