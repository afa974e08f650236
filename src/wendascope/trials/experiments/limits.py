"""What limits a program or some of its steps: experiments on the replayed frame, each with its time and its picture."""

from __future__ import annotations

from pathlib import Path

import msgspec

from wendascope import records
from wendascope.analysis.shaders.study import ProgramStudy
from wendascope.analysis.time import limits as names
from wendascope.frame.frame import Frame
from wendascope.frame.remedy import Remedy
from wendascope.glsl.stages import Stage
from wendascope.measure.statistics import Interval, median_interval
from wendascope.replay.client import Replay
from wendascope.task import QUIET, Task
from wendascope.trials.experiments.limit_runs import measure_variants
from wendascope.trials.proofs.proof import now

REPEATS = 8


class Experiment(msgspec.Struct):
    """One change made to see what it saves; no advice."""

    name: str
    remedies: list[Remedy]
    refused: str = ""
    """Why it could not be made; empty otherwise."""
    saved_ms: Interval | None = None
    """Original less changed, of the steps alone, pairs of one round, 95 %."""
    share: float | None = None
    """Of what leaving the steps out saves."""
    pixels_different: int = 0
    max_difference: int = 0

    @property
    def title(self) -> str:
        return names.TITLES[self.name]


class Limits(msgspec.Struct):
    """Measured on one program, or on some of its steps."""

    program: int
    label: str
    steps: list[int]
    ms: Interval
    """What the steps take in the original frame."""
    experiments: list[Experiment]
    answer: str
    timed: str
    """`steps`, or `passes` where there are too many runs of steps to time each."""
    repeats: int
    made_at: str = ""

    @property
    def subject(self) -> tuple[int, ...]:
        return (self.program, *self.steps)

    def fits(self, frame: Frame) -> bool:
        """Whether it can be of that frame, and made by this program."""
        known = all(experiment.name in names.TITLES for experiment in self.experiments)
        return known and all(0 <= step < len(frame.steps) for step in self.steps)


def experiments_of(study: ProgramStudy, steps: list[int]) -> list[Experiment]:
    """All that can be tried on some steps of a program. Those that change the shader change it for all of its steps."""
    program = study.program
    stage = study.stage(Stage.FRAGMENT)
    loops = {loop.line: 1 for loop in stage.cost.loops if loop.trips != 1} if stage and stage.cost else {}
    found = [
        Experiment(names.LEFT_OUT, [Remedy("drop-steps", steps)]),
        Experiment(names.TINY, [Remedy("tiny-viewport", steps)]),
        Experiment(names.FLAT, [Remedy("flat-colour", steps, program=program)]),
        Experiment(names.NO_LOOKUPS, [Remedy("no-lookups", steps, program=program)]),
        Experiment(names.ONE_TEXEL, [Remedy("one-texel", steps)]),
        Experiment(names.HALF, [Remedy("smaller-viewport", steps, divide=2)]),
        Experiment(names.QUARTER, [Remedy("smaller-viewport", steps, divide=4)]),
        Experiment(names.BAKED, [Remedy("bake-uniforms", steps, program=program)]),
    ]
    if loops:
        found.append(Experiment(names.CUT, [Remedy("cut-loops", steps, program=program, loops=loops)]))
    return found


def find_limits(
    path: Path, study: ProgramStudy, replay: Replay, steps: list[int] | None = None, repeats: int = REPEATS,
    task: Task = QUIET,
) -> Limits:  # fmt: skip
    """Make every experiment and keep what came of it in the file. Raises ReplayError, CancelledError, FileError."""
    chosen = steps or study.steps
    found = experiments_of(study, chosen)
    asked = measure_variants.asked(chosen, [item.remedies for item in found], repeats)
    measured = replay.run(asked, task)
    ms = measured.ms
    for number, item in enumerate(found):
        item.refused = measured.refused[number]
        if not item.refused:
            item.saved_ms = median_interval(ms[0] - ms[number + 1])
            item.pixels_different, item.max_difference = measured.different[number], measured.largest[number]
    whole = found[0].saved_ms
    certain = whole is not None and whole.low > 0
    if certain and whole is not None:
        for item in found:
            item.share = item.saved_ms.median / whole.median if item.saved_ms else None
    label = study.title if steps is None else f"{study.title}, {'step' if len(chosen) == 1 else 'steps'} {_run(chosen)}"
    answer = names.limit_answer(label, {e.name: e.share for e in found if e.share is not None}, certain)
    result = Limits(
        study.program, label, chosen if steps else [], median_interval(ms[0]), found, answer, measured.spans, repeats
    )
    result.made_at = now()
    records.LIMITS.keep(path, result)
    return result


def _run(steps: list[int]) -> str:
    return (
        f"{steps[0]:,}"
        if len(steps) == 1
        else f"{steps[0]:,} to {steps[-1]:,}"
        if steps[-1] - steps[0] == len(steps) - 1
        else f"{steps[0]:,} and {len(steps) - 1} more"
    )


def stored_limits(path: Path) -> dict[tuple[int, ...], Limits]:
    """(program, steps if not all) -> the newest experiments on them in the file. Raises FileError."""
    return {item.subject: item for item in records.LIMITS.all(path)}
