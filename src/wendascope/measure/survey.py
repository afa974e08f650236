"""The survey of times: verify, calibrate, then time the frame, its passes and its steps."""

from __future__ import annotations

import time

import numpy as np

from wendascope.backends.doors import Session
from wendascope.measure.calibrate import calibrate
from wendascope.measure.clocks import Clock
from wendascope.measure.pictures import verify
from wendascope.measure.records import CpuTimes, PassTime, StepTimes, Survey
from wendascope.measure.samples import CALIBRATION, CLOCK
from wendascope.measure.statistics import median_interval, median_intervals
from wendascope.measure.times import SpanTimer, frame_times, pass_spans, step_spans
from wendascope.replay.jobs import remote
from wendascope.task import Task

REPEATS = 6
"""The fewest whose range holds the median with 95 %."""
_FEWEST, _STEP_SECONDS, _STEP_FRAMES = 3, 12.0, 12
"""Passes and steps are timed so often at least, and no oftener where that takes so many seconds or frame times: a
frame of a hundred thousand draws takes minutes when each is timed by itself.
"""
WARM_UP = 1
"""Frames not counted: the verification, which comes first and compiles every shader."""


@remote
def survey(session: Session, job: Task, repeats: int = REPEATS) -> Survey:
    """Time a frame. Runs it 3 x repeats + 1 times at most; where it has one pass, 2 x repeats + 1 times."""
    started = time.monotonic()
    frame = session.frame
    verification = verify(session, job)
    calibration = session.slots.put(CALIBRATION, calibrate(session, job))
    method = session.slots.put(CLOCK, calibration.method)
    whole = frame_times(session, job, repeats)
    # a frame of one pass is that pass, where both go by drained time
    alone = len(frame.passes) == 1 and method != Clock.QUERY
    passes = None if alone else SpanTimer(session, pass_spans(session), method)
    steps = SpanTimer(session, step_spans(session), method)
    pass_rows, step_rows = [], []
    # everything is warm by now; passes and steps take turns, so that a slow moment of the machine falls on both
    begun, frame_s = time.monotonic(), float(whole.frame_ms.max()) / 1000
    for repeat in range(repeats):
        if repeat >= _FEWEST and time.monotonic() - begun > max(_STEP_SECONDS, _STEP_FRAMES * frame_s):
            break
        job.progress("timing passes and steps", repeat / repeats)
        pass_rows.append(whole.frame_ms[repeat : repeat + 1] if passes is None else passes.run())
        step_rows.append(steps.run())
    pass_ms = median_intervals(np.array(pass_rows))
    step_ms = median_intervals(np.array(step_rows))
    lane = frame.cpu_lane
    records = []
    table = frame.passes
    for index, (first, end) in enumerate(pass_spans(session)):
        steps_of = slice(int(table.first[index]), int(table.end[index]))
        own = slice(first, end)
        target = table.targets[index]
        records.append(
            PassTime(
                index, table.names[index], steps_of.stop - steps_of.start,
                float(pass_ms[0][index]), float(pass_ms[1][index]), float(pass_ms[2][index]),
                float(step_ms[0][steps_of].sum()), float(lane.duration[own][~lane.waits[own]].sum()),
                target.name, target.width, target.height,
            )
        )  # fmt: skip
    cpu = CpuTimes(lane.frame_ms, lane.calls_ms, lane.waits_ms, lane.own_ms)
    return Survey(
        method=method,
        calibration=calibration,
        repeats=repeats,
        warm_up=WARM_UP,
        frame_ms=median_interval(whole.frame_ms),
        submit_ms=median_interval(whole.submit_ms),
        passes=records,
        steps=StepTimes(*(column.tolist() for column in step_ms)),
        fragments=None,
        cpu=cpu,
        verification=verification,
        renderer=session.renderer,
        target_frame_ms=frame.target_frame_ms,
        seconds=time.monotonic() - started,
    )
