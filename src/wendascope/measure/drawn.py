"""Measures overdraw and geometry of a frame into one record."""

from __future__ import annotations

import time

import numpy as np

from wendascope.analysis.geometry.drawn import (
    Drawn,
    StepDrawn,
    clear_survivors,
    pass_drawn,
    step_boxes,
)
from wendascope.analysis.geometry.step_triangles import StepTriangles, fill_steps
from wendascope.backends.doors import Counter, Mark, Session
from wendascope.backends.edit import Edit, Insertion
from wendascope.frame.layers import step_layers
from wendascope.frame.resources import Program
from wendascope.glsl.preprocessor import Dialect, compiled_text
from wendascope.glsl.stages import Stage
from wendascope.glsl.words import FragmentHabits, fragment_habits
from wendascope.measure.overdraw import Geometry, coverage_of_frame, geometry_of, layers_of, rejected_by_depth
from wendascope.measure.pictures import compare_pictures
from wendascope.measure.samples import calibrated_method
from wendascope.measure.times import SpanTimer, step_counts, step_spans
from wendascope.replay.jobs import remote
from wendascope.task import Task

_VERTEX_REPEATS, _VERTEX_SECONDS = 3, 6.0
"""Runs for the times of vertex stages, and what they may take together beyond the first."""


@remote
def measure_drawn(session: Session, job: Task, timed: bool = True) -> Drawn:
    """Count what every step draws and sort its triangles; with `timed`, also read how long its vertices take. Raises
    CancelledError, ReplayError.
    """
    started = time.monotonic()
    frame = session.frame
    geometry = geometry_of(session, job)
    layers = layers_of(session, job)
    result = Drawn(
        [StepDrawn() for _ in range(len(frame.steps))],
        [pass_drawn(item) for item in layers],
        list(geometry.positions.caveats),
    )
    counted = {item.index for item in layers if item.counted}
    result.caveats += [caveat for item in layers if not item.counted for caveat in item.caveats]
    for item in layers:
        kinds = {touch.step: touch.kind for touch in item.touches}
        for step, found in step_layers(item).items():
            row = result.steps[step]
            row.kind, row.fragments, row.survivors, row.idle = kinds[step], found.fragments, found.survivors, found.idle
            row.effect = found.effect
        for touch in item.touches:
            if touch.kind == "clear" and item.colour:
                row = result.steps[touch.step]
                row.kind, row.fragments, row.survivors, row.idle = (
                    "clear",
                    touch.counts.size,
                    clear_survivors(item, touch),
                    0,
                )
    _fill(session, geometry, result)
    result.coverage = coverage_of_frame(session, job, step_boxes(result))
    _count_by_driver(session, job, result, counted)
    if result.mismatched:
        result.caveats.append(
            f"{result.mismatched:,} steps: the layers counted do not add up to the fragments that the driver counts"
        )
    if timed:
        for step, ms in enumerate(vertex_times(session, job, geometry)):
            result.steps[step].vertex_ms = ms
    _check_picture(session, result)
    result.seconds = time.monotonic() - started
    return result


def _count_by_driver(session: Session, job: Task, result: Drawn, counted: set[int]) -> None:
    """What the driver's own counters say of each step: against the layers' counts, and beyond them. `counted` are the
    passes whose layers were counted.
    """
    frame = session.frame
    by_driver = step_counts(session, job)
    driver = by_driver.get(Counter.SAMPLES)
    for step, row in enumerate(result.steps):
        if frame.steps.kind_name(step) != "draw" or int(frame.passes.of_step[step]) not in counted:
            continue
        if row.fragments < 0:
            # drawn, and no fragment of it passed
            row.fragments = row.survivors = row.idle = 0
        if driver is not None and driver[step] != row.fragments:
            result.mismatched += 1
    for step, count in enumerate(by_driver.get(Counter.VERTEX_RUNS, [])):
        if frame.steps.kind_name(step) == "draw":
            result.steps[step].vertices_run = count
    for step, count in enumerate(by_driver.get(Counter.FRAGMENT_RUNS, [])):
        if frame.steps.kind_name(step) == "draw":
            result.steps[step].shaded = count
    late = frozenset(
        s
        for s, row in enumerate(result.steps)
        if not row.early and row.depth_test and frame.steps.kind_name(s) == "draw"
    )
    if late:
        for step, count in rejected_by_depth(session, job, late).items():
            result.steps[step].rejected = count


def vertex_times(session: Session, job: Task, geometry: Geometry) -> list[float | None]:
    """Milliseconds of each draw with rasterisation off, the median of a few runs; None where that cannot be
    switched.
    """
    steps = session.frame.steps
    draws = [s for s in range(len(steps)) if steps.kind_name(s) == "draw" and geometry.positions.states[s].rasterises]
    result: list[float | None] = [None] * len(steps)
    if not draws or not session.can_mark(Mark.FRAGMENTS_OFF):
        return result
    job.progress("timing the vertex stages", 0.0)
    spans = step_spans(session)
    around = _without_fragments(session, draws)
    timer = SpanTimer(session, [spans[s] for s in draws], calibrated_method(session, job), Edit(around))
    started = time.monotonic()
    timer.run()
    took = time.monotonic() - started
    # long runs are warm, and as many as time allows
    repeats = int(np.clip(_VERTEX_SECONDS / max(took, 1e-3), 1, _VERTEX_REPEATS))
    rows = np.median([timer.run() for _ in range(repeats)], axis=0)
    for step, ms in zip(draws, rows.tolist(), strict=True):
        result[step] = ms
    return result


def _without_fragments(session: Session, draws: list[int]) -> list[Insertion]:
    """Switches fragments off around every run of draws that nothing else lies between."""
    off, on = session.marks(Mark.FRAGMENTS_OFF), session.marks(Mark.FRAGMENTS_ON)
    steps, around = session.frame.steps, []
    for number, step in enumerate(draws):
        if not number or draws[number - 1] != step - 1:
            around.append(Insertion(int(steps.begin[step]), off))
        if number + 1 == len(draws) or draws[number + 1] != step + 1:
            around.append(Insertion(int(steps.call[step]) + 1, on))
    return around


def _check_picture(session: Session, result: Drawn) -> None:
    """The instrumented frame has to give the captured picture, or its counts are of another frame."""
    reference = session.frame.reference
    if reference is None:
        return
    with session.counting() as counting:
        counting.run(counting.prepare())
        different, _ = compare_pictures(counting.final_picture(), reference, alpha=False)
    if different:
        result.caveats.append(
            f"while it is counted the picture differs in {different:,} pixels: the counts are near, not exact"
        )


def _fill(session: Session, geometry: Geometry, result: Drawn) -> None:
    frame = session.frame
    habits: dict[int, FragmentHabits | None] = {}
    effects = session.has_effects()
    gathered: list[StepTriangles] = []
    for step, state in geometry.positions.states.items():
        row = result.steps[step]
        row.depth_test, row.depth_write, row.depth_func = state.depth_test, state.depth_write, state.depth_func
        row.stencil, row.effects = state.stencil_test, bool(effects[step])
        name = int(frame.steps.program[step])
        if name not in habits:
            habits[name] = _habits(frame.programs.get(name), frame.context.dialect)
        known = habits[name]
        row.early = not ((known is not None and known.prevents_early_test) or state.late_tests)
        row.transformed = geometry.positions.transformed.get(step, -1)
        if step in geometry.triangles:
            near, far = state.depth_range
            gathered.append(
                StepTriangles(
                    row, geometry.triangles[step], geometry.positions.clip[step], (near, far), state.zero_to_one
                )
            )
    fill_steps(gathered)
    for step in geometry.triangles:
        row, scissor = result.steps[step], geometry.positions.states[step].scissor
        row.scissored = scissor is not None and row.box is not None and _apart(row.box, scissor)


def _apart(box: tuple[int, int, int, int], scissor: tuple[int, ...]) -> bool:
    x, y, width, height = scissor
    return box[2] <= x or box[0] >= x + width or box[3] <= y or box[1] >= y + height


def _habits(program: Program | None, dialect: Dialect) -> FragmentHabits | None:
    shaders = program.shaders if program else []
    sources = [compiled_text(s.source, dialect) for s in shaders if s.stage == Stage.FRAGMENT]
    return fragment_habits("\n".join(sources)) if sources else None
