"""Which loops of its fragment shaders a frame reaches: the shaders note it, in one replay for all."""

from __future__ import annotations

import numpy as np

from wendascope.analysis.shaders.reached_code import ReachedCode, ReachedLoop
from wendascope.backends.doors import NOTES, Session
from wendascope.errors import ReplayError, TrialError
from wendascope.glsl.rewriting.iterations import Loop
from wendascope.glsl.rewriting.reached import noted_loops, with_loops_noted
from wendascope.replay.jobs import remote
from wendascope.task import Task

_MOST_LOOPS = 4096


@remote
def reached_code(session: Session, job: Task) -> ReachedCode:
    """Replay the frame once with shaders that note how often their loops run. The picture has to stay what it is.
    Raises ReplayError, CancelledError.
    """
    refused = session.cannot_note()
    if refused:
        return ReachedCode(refused=refused)
    job.progress("preparing shaders that note where they run", 0.0)
    sources, loops = _noting(session)
    if not loops:
        return ReachedCode()
    notes = bytes(4 * len(loops))
    job.progress("replaying with shaders that note where they run", 0.3)
    try:
        noted = session.run_noting(sources, notes, [(0, 0)], len(notes))
    except (ReplayError, TrialError) as error:
        return ReachedCode(refused=str(error))
    if noted is None:
        return ReachedCode(refused="the picture changes while loops are noted")
    counts = np.frombuffer(noted, np.uint32).tolist()
    return ReachedCode(
        [ReachedLoop(program, loop.line, loop.last_line, n) for (program, loop), n in zip(loops, counts, strict=True)]
    )


def _noting(session: Session) -> tuple[dict[int, str], list[tuple[int, Loop]]]:
    """Program -> its fragment shader so that it notes, and (program, loop) for each place of the notes."""
    sources: dict[int, str] = {}
    places: list[tuple[int, Loop]] = []
    for name, source in session.notable().items():
        try:
            loops = noted_loops(source)
            if not loops or len(places) + len(loops) > _MOST_LOOPS:
                continue
            sources[name] = with_loops_noted(source, len(places), NOTES, session.frame.context.es)
        except TrialError:
            continue
        places += [(name, loop) for loop in loops]
    return sources, places
