"""The API's part of submission: measured with a driver that does everything but draw, where this machine has one.

Mesa's drivers draw nothing with `GALLIUM_NOOP=1`. What the calls of a frame cost there is a floor; what fewer calls
bring of it is told as the API's part, beside what they bring on the driver itself.
"""

from __future__ import annotations

import msgspec
import numpy as np

from wendascope.backends.doors import THREAD, Session
from wendascope.backends.edit import Edit
from wendascope.backends.slots import Slot
from wendascope.errors import CancelledError, WendascopeError
from wendascope.frame.remedy import Remedy
from wendascope.measure.deciding import Decision, Measure, differences_of, in_turns
from wendascope.measure.statistics import Interval
from wendascope.measure.times import FrameTimer
from wendascope.replay.client import Replay
from wendascope.replay.jobs import remote
from wendascope.task import Task
from wendascope.trials.proofs.outcomes import bring_in, edited

_SECONDS = 0.8
_FLOOR, _SMALL = 0.05, 0.05
"""Parts of the API's time below which no difference is claimed, and none matters."""
_SETTLING_RUNS = 5


class ApiPart(msgspec.Struct):
    """CPU time of the submitting thread over all calls of the frame, where nothing is drawn; ms."""

    decision: Decision
    saved: Interval | None
    """Original less edited; None where too few pairs were run."""
    before_ms: float
    """Of the original, median."""
    drew: bool = False
    """Whether the driver drew after all."""


_BEFORE: Slot[float] = Slot("the API's part of the original")
_DREW: Slot[bool] = Slot("whether this driver draws")


@remote
def measure_api_part(session: Session, job: Task, remedies: list[Remedy]) -> ApiPart:
    """Raises TrialError, ReplayError, CancelledError."""
    job.progress("submitting both without drawing", 0.0)
    if session.slots.get(_DREW, lambda: _draws(session)):
        return ApiPart(Decision.OPEN, None, 0.0, True)
    variation, _ = edited(session, remedies)
    bring_in(session, variation.brought_in)
    timers = [FrameTimer(session, e) for e in (Edit(), variation.edit)]
    originals: list[float] = []

    def submitted(which: int) -> list[float]:
        taken = float(timers[which].read()[0, THREAD])
        if which == 0:
            originals.append(taken)
        return [taken]

    before = session.slots.get(_BEFORE, lambda: float(np.median([submitted(0) for _ in range(_SETTLING_RUNS)])))
    measure = Measure(_FLOOR * before, _SMALL * before)
    submitted(1)  # warms up
    in_turns(
        differences_of(submitted),
        [measure],
        _SECONDS,
        lambda part: job.progress("submitting both without drawing", part),
    )
    return ApiPart(measure.decision, measure.interval, float(np.median(originals)))


def _draws(session: Session) -> bool:
    """Whether the frame comes out as it was captured: then this driver draws."""
    session.run(session.prepare())
    reference = session.frame.reference
    return reference is None or bool((session.final_picture().pixels[..., :3] == reference.pixels[..., :3]).all())


def api_part(replay: Replay, remedies: list[Remedy], task: Task) -> ApiPart | None:
    """The API's part of what remedies bring; None where this machine has no driver that draws nothing, or it refuses
    them. Raises CancelledError.
    """
    companion = replay.without_drawing()
    if companion is None:
        return None
    try:
        found = companion.run(measure_api_part.asked(remedies), task.quietly())
    except CancelledError:
        raise
    except WendascopeError:
        return None
    if found.drew:
        replay.always_draws()
        return None
    return found
