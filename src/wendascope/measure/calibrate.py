"""Which clocks to believe: known work at two sizes, by timer query, by draining the pipeline, and by CPU time."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
import numpy.typing as npt

from wendascope.backends.doors import CPU, WALL, KnownWork, Session
from wendascope.measure.clocks import Clock
from wendascope.measure.records import Calibration, ClockTrial
from wendascope.replay.jobs import remote
from wendascope.task import Task

_SMALL, _LARGE = 128, 512
"""Sides of the two works, in pixels."""
_REPEATS = 5


@remote
def calibrate(session: Session, job: Task) -> Calibration:
    """Draw known work at two sizes, alone and under load, and choose. Leaves the session to be restored by the next
    run.
    """
    job.progress("calibrating the clock", 0.0)
    work = session.known_work()
    work.drained(_LARGE)  # the shader is compiled here
    empty = min(float(work.drained(0)[WALL]) for _ in range(_REPEATS))
    alone = _tried(work)
    loaded = None
    if session.busy is not None:
        job.progress("calibrating the clock under load", 0.5)
        with session.busy.running():
            loaded = _tried(work)
    work.close()
    ratio = (_LARGE / _SMALL) ** 2
    trials = clock_trials(alone, loaded, ratio)
    drained = next(t for t in trials if t.clock == Clock.DRAIN)
    query = next((t for t in trials if t.clock == Clock.QUERY), None)
    small_query, large_query = (query.small_ms, query.large_ms) if query else (None, None)
    method, reason = choose_clock(drained.small_ms, drained.large_ms, small_query, large_query, ratio)
    verdict, why = choose_verdict_clock(trials)
    return Calibration(
        method,
        reason,
        drained.small_ms,
        drained.large_ms,
        small_query,
        large_query,
        ratio,
        empty,
        verdict,
        why,
        trials,
    )


Tried = Mapping[Clock, npt.NDArray[np.float64]]
"""Clock -> ms of the small and the large work, shape (repeats, 2)."""


def clock_trials(alone: Tried, loaded: Tried | None, ratio: float) -> list[ClockTrial]:
    """What the clocks showed, from runs alone and, where there were any, under load.

    A clock is credible when it grows with the work as it should, within a factor of three, and shows at least half of
    the drained time of the wall.
    """
    wall = float(np.median(alone[Clock.DRAIN][:, 1]))
    trials = []
    for clock, rows in alone.items():
        small, large = np.median(rows, axis=0).tolist()
        grows = ratio / 3 <= large / max(small, 1e-9) <= ratio * 3
        trials.append(
            ClockTrial(
                clock, small, large, _spread(rows), _spread(loaded[clock]) if loaded else None,
                (grows or clock == Clock.DRAIN) and large >= 0.5 * wall,
            )
        )  # fmt: skip
    return trials


def _spread(rows: npt.NDArray[np.float64]) -> float:
    large = rows[:, 1]
    return float((large.max() - large.min()) / max(np.median(large), 1e-9))


def choose_verdict_clock(trials: list[ClockTrial]) -> tuple[str, str]:
    """The clock that verdicts go by, and why: of the credible ones the least shaken, by load where that was tried.

    A timer query goes first unless another is steadier by half: it shows what the GPU does and nothing else.
    """

    def shaken(trial: ClockTrial) -> float:
        return trial.spread if trial.loaded_spread is None else trial.loaded_spread

    credible = [trial for trial in trials if trial.credible]
    if not credible:
        return Clock.DRAIN, "no clock is credible"
    best = min(credible, key=lambda t: shaken(t) * (0.5 if t.clock == Clock.QUERY else 1.0))
    others = ", ".join(f"{t.clock} {100 * shaken(t):.0f} %" for t in credible if t is not best)
    under = "under load" if best.loaded_spread is not None else "without load"
    return best.clock, (
        f"{best.clock} scatters by {100 * shaken(best):.0f} % {under}" + (f" ({others})" if others else "")
    )


def choose_clock(
    small: float, large: float, small_query: float | None, large_query: float | None, ratio: float
) -> tuple[str, str]:
    """Method and reason, from milliseconds of both clocks for work that grows by `ratio`.

    A timer query is believed when it grows with the work as it should, within a factor of three, and when
    what it shows for the large work is at least half of the drained time.
    """
    if small_query is None or large_query is None:
        return "drain", "the context has no timer queries"
    if large_query < 0.5 * large:
        return "drain", f"timer query shows {large_query:.4f} ms for work that takes {large:.2f} ms"
    if not ratio / 3 <= large_query / max(small_query, 1e-9) <= ratio * 3:
        return (
            "drain",
            f"timer query grows {large_query / max(small_query, 1e-9):.1f} times for {ratio:.0f} times the work",
        )
    return "timer query", f"timer query and drained time agree on known work ({large_query:.2f} and {large:.2f} ms)"


def _tried(work: KnownWork) -> dict[Clock, npt.NDArray[np.float64]]:
    """Both sizes by every clock; see `Tried`."""
    rows = np.array([[work.drained(size) for size in (_SMALL, _LARGE)] for _ in range(_REPEATS)])
    tried: dict[Clock, npt.NDArray[np.float64]] = {Clock.DRAIN: rows[..., WALL], Clock.CPU: rows[..., CPU]}
    counted = [work.counted((_SMALL, _LARGE)) for _ in range(_REPEATS)]
    known = [row for row in counted if row is not None]
    if len(known) == len(counted):
        tried[Clock.QUERY] = np.array(known)
    return tried
