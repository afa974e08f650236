"""Lights and parts of views found in a frame, and the frame replayed without each."""

from __future__ import annotations

import re
import time
from collections.abc import Iterator, Sequence

import numpy as np

from wendascope.advice.findings import Case
from wendascope.advice.left_out import Kind, LeftOut
from wendascope.analysis.sequence.late_views import FAR, secondary_views
from wendascope.backends import fixed_lights
from wendascope.backends.doors import Session
from wendascope.errors import TrialError
from wendascope.frame.frame import Frame
from wendascope.frame.remedy import Remedy
from wendascope.frame.roles import Role
from wendascope.glsl.preprocessor import compiled_text
from wendascope.glsl.rewriting import visited_arrays
from wendascope.glsl.stages import Stage
from wendascope.measure.pictures import unlike
from wendascope.replay.client import Replay
from wendascope.replay.jobs import remote
from wendascope.task import Task
from wendascope.trials.proofs.outcomes import Variation, edited, finished, judge_remedies

_LIGHT_WORDS = re.compile(r"light|lamp|lantern|spot|omni|sun(?![a-z])|illum", re.IGNORECASE)
"""In what names of arrays have that hold lights."""
_MOST_ELEMENTS, _MOST_UNCERTAIN = 16, 6
"""Of an array that are tried, and where nothing says how many there are."""
_LIKELY_ELEMENTS = 2
"""Of such an array that are tried before all else."""
_LEAST_PART = 0.01
"""Of the frame's time: parts of views that take less are not tried."""


def find_left_out(case: Case) -> list[LeftOut]:
    """Everything worth trying without: lights first, then parts of views, those that take most first. Last come
    elements of arrays of which nobody knows how many there are, after the first few.
    """
    frame = case.frame
    lights = [
        *_views(frame, case),
        *_light_draws(frame, case),
        *_elements(frame, case),
        *_fixed_lights(frame),
    ]
    parts = sorted(_parts(frame, case), key=lambda item: -(item.ms or 0.0))
    least = _LEAST_PART * (case.frame_ms or 0.0)
    likely = [item for item in lights if item.certain or item.remedy.values["element"] < _LIKELY_ELEMENTS]
    rest = [item for item in lights if item not in likely]
    return [*likely, *(part for part in parts if part.ms is None or part.ms >= least), *rest]


def _views(frame: Frame, case: Case) -> Iterator[LeftOut]:
    """Secondary views, reflections and shadow maps without anything in them."""
    for passes in secondary_views(frame):
        steps = [s for index in passes for s in case.steps_of(index)]
        draws = [s for s in steps if frame.steps.kind_name(s) == "draw"]
        if draws:
            shadow = any(frame.pass_roles[index].role == Role.SHADOW for index in passes)
            names = list(dict.fromkeys(case.names[index] for index in passes))
            name = names[0] if len(names) == 1 else f"{names[0]} to {names[-1]}"
            kind = Kind.SHADOW if shadow else Kind.VIEW
            yield LeftOut(kind, name, draws, Remedy("drop-steps", draws), case.time_of(draws))


def _light_draws(frame: Frame, case: Case) -> Iterator[LeftOut]:
    """Draws that add light to what images drawn before hold: of deferred shading."""
    flow, of_step = frame.resource_flow, frame.passes.of_step
    drawn: dict[int, int] = {}
    reads: dict[int, set[int]] = {}
    for step, resource in zip(*map(np.ndarray.tolist, map(np.asarray, flow.writes)), strict=True):
        drawn[resource] = min(drawn.get(resource, step), step)
    for step, resource in zip(*map(np.ndarray.tolist, map(np.asarray, flow.reads)), strict=True):
        if step < len(of_step) and drawn.get(resource, step) < step:
            reads.setdefault(step, set()).add(resource)
    mixing, uses = np.asarray(frame.uses.mixes_colours), frame.uses
    for step, images in sorted(reads.items()):
        target = set(flow.targets[int(of_step[step])])
        if len(images - target) < 2 or not mixing[step] or uses.depth.writes[step] or uses.writes_no_colour[step]:
            continue
        if frame.steps.kind_name(step) == "draw":
            label = f"{frame.step_name(step)}, step {step}"
            yield LeftOut(Kind.LIGHT_DRAW, label, [step], Remedy("drop-steps", [step]), case.time_of([step]))


def _elements(frame: Frame, case: Case) -> Iterator[LeftOut]:
    """Lights in arrays that shaders go through."""
    known: dict[str, dict[int, int | None]] = {}
    shares: dict[str, dict[int, float]] = {}
    studies = {study.program: study for study in case.shaders}
    for name in np.unique(frame.steps.program).tolist():
        record, study = frame.programs.get(name), studies.get(name)
        if record is None or study is None:
            continue
        for shader in record.shaders:
            try:
                source = compiled_text(shader.source, frame.context.dialect)
                visits = visited_arrays(source) if source else []
            except TrialError:
                continue
            for visit in visits:
                if not _LIGHT_WORDS.search(visit.array):
                    continue
                stage = study.stage(shader.stage)
                loops = stage.cost.loops if stage and stage.cost and visit.by_round else []
                loop = next((found for found in loops if found.line == visit.line), None)
                known.setdefault(visit.array, {})[name] = loop.trips if loop else None
                if loop and loop.trips and study.ms is not None and shader.stage == Stage.FRAGMENT and stage:
                    part = loop.cost / max(stage.cost.total if stage.cost else 0.0, 1e-9) / loop.trips
                    shares.setdefault(visit.array, {})[name] = study.ms * min(part, 1.0)
    for array, programs in known.items():
        counts = [count for count in programs.values() if count]
        steps = np.flatnonzero(np.isin(frame.steps.program, list(programs))).tolist()
        certain = all(count is not None for count in programs.values())
        most = _MOST_ELEMENTS if certain else _MOST_UNCERTAIN
        for element in range(min(max(counts, default=most), most)):
            values = {"element": float(element)}
            if len(set(programs.values())) == 1 and counts:
                values["count"] = float(counts[0])
            remedy = Remedy("without-element", steps, names=[array], values=values)
            using = [p for p, count in programs.items() if count is None or element < count]
            ms = sum(shares.get(array, {}).get(p, 0.0) for p in using) or None
            yield LeftOut(Kind.ELEMENT, f"{array}[{element}]", steps, remedy, ms, certain=certain)


def _fixed_lights(frame: Frame) -> Iterator[LeftOut]:
    """Lights of the fixed-function pipeline."""
    for light, steps in fixed_lights(frame).items():
        remedy = Remedy("light-off", steps, values={"light": float(light)})
        yield LeftOut(Kind.FIXED, f"light {light}", steps, remedy)


def _parts(frame: Frame, case: Case) -> Iterator[LeftOut]:
    """Of every secondary view, reflection and shadow: what has one mesh or one material."""
    for passes in secondary_views(frame):
        steps = np.array([s for index in passes for s in case.steps_of(index)], np.int64)
        view = case.names[passes[0]]
        by = "material" if frame.pass_roles[passes[0]].role != Role.SHADOW else "mesh"
        groups = frame.grouping.by(by)
        parts = groups.parts(steps)
        if len(parts) < 2:
            continue
        for group, members in parts:
            draws = [s for s in members.tolist() if frame.steps.kind_name(s) == "draw"]
            if draws:
                remedy = Remedy("drop-steps", draws)
                yield LeftOut(Kind.PART, groups.name(group), draws, remedy, case.time_of(draws), view=view)


@remote
def pictures_without(session: Session, job: Task, items: list[LeftOut], seconds: float) -> list[LeftOut]:
    """The finished picture without each, as far as some seconds reach. Raises ReplayError, CancelledError."""
    until = time.monotonic() + seconds
    alpha, before = session.frame.alpha_matters, finished(session, Variation())
    for number, item in enumerate(items):
        job.progress("without one light, or one part of a view", number / len(items))
        if time.monotonic() > until:
            break
        item.tried = True
        try:
            after = finished(session, edited(session, [item.remedy])[0])
        except TrialError as error:
            item.refused = str(error)
            continue
        found = unlike(before, after, alpha, FAR)
        item.pixels, item.pixels_far, item.max_difference, item.where = *found[:3], found.where
        if not item.pixels:
            item.left_behind = judge_remedies(session, [item.remedy]).left_behind
    if unlike(before, finished(session, Variation()), alpha, FAR).pixels:
        for item in items:
            item.refused = "the replay differs from run to run" if item.tried else ""
    return items


def try_without(items: Sequence[LeftOut], replay: Replay, seconds: float, task: Task) -> list[LeftOut]:
    """Those that were not tried yet are, as far as some seconds reach. What may not be there at all, and changes
    nothing, is left out of the list. Raises ReplayError, CancelledError.
    """
    waiting = [item for item in items if not item.tried]
    if not waiting:
        return list(items)
    found = replay.run(pictures_without.asked(waiting, seconds), task)
    tried = iter(found)
    whole = [item if item.tried else next(tried) for item in items]
    return [item for item in whole if item.certain or not item.tried or item.pixels or item.refused]
