"""Single timed runs of a frame, for comparisons that take turns between frames."""

from __future__ import annotations

import msgspec

from wendascope.backends.doors import Counter, Session
from wendascope.backends.slots import Slot
from wendascope.errors import MachineError
from wendascope.measure.calibrate import calibrate
from wendascope.measure.clocks import Clock
from wendascope.measure.records import Calibration
from wendascope.measure.times import FrameTimer, SpanTimer, pass_spans
from wendascope.replay.jobs import remote
from wendascope.task import Task

CLOCK: Slot[str] = Slot("clock")
"""The way of timing that was found credible."""
CALIBRATION: Slot[Calibration] = Slot("calibration")
_TIMERS: Slot[dict[str, tuple[FrameTimer, SpanTimer]]] = Slot("timers")


@remote
def prepare(session: Session, job: Task) -> str:
    """Warm up: every shader is compiled and the clock chosen. Returns the clock."""
    session.run(session.prepare())
    method = calibrated_method(session, job)
    session.run(session.prepare())
    return method


def calibrated_method(session: Session, job: Task) -> str:
    """The clock of this machine, chosen once a session."""
    return session.slots.get(CLOCK, lambda: calibration(session, job).method)


def calibration(session: Session, job: Task) -> Calibration:
    """What the clocks of this machine showed, tried once a session."""
    return session.slots.get(CALIBRATION, lambda: calibrate(session, job))


@remote
def use_clock(session: Session, job: Task, clock: str) -> None:
    """Have verdicts go by a clock (of `clocks.Clock`) that somebody asks for. Raises MachineError where the driver does
    not have it.
    """
    if clock == Clock.QUERY and not session.can_count(Counter.TIME):
        raise MachineError("this driver has no timer queries; choose --clock drain or cpu-time")
    found = calibration(session, job)
    asked = msgspec.structs.replace(found, verdict_clock=clock, verdict_reason="it was asked for")
    session.slots.put(CALIBRATION, asked)


@remote
def sample(session: Session, job: Task, method: str) -> dict[str, list[float]]:
    """One run timed as a whole and one with every pass timed: `frame`, `submit` and `passes`, in ms."""
    timers = session.slots.get(_TIMERS, dict)
    if method not in timers:
        timers[method] = (FrameTimer(session), SpanTimer(session, pass_spans(session), method))
    whole, passes = timers[method]
    submitted, finished = whole.run()
    return {"frame": [finished], "submit": [submitted], "passes": passes.run().tolist()}
