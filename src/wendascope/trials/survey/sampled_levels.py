"""Which mip levels of its textures a frame reads: its fragment shaders note them, in one replay for all."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from wendascope.analysis.memory.memory_use import NEVER, SampledTexture, SampledTextures
from wendascope.backends.doors import NOTES, Session
from wendascope.errors import ReplayError, TrialError
from wendascope.frame.frame import Frame
from wendascope.glsl.rewriting._parts import read
from wendascope.glsl.rewriting.levels import (
    ES_QUERY,
    NUMBERS,
    OFFSET,
    SCALE,
    names_beyond_declarations,
    noted_samplers,
    reads_early,
    with_levels_noted,
)
from wendascope.glsl.stages import Stage
from wendascope.replay.jobs import remote
from wendascope.task import Task

_MOST_SAMPLERS = 16
_PART = _MOST_SAMPLERS * NUMBERS * 4
"""Bytes of one step's notes: a multiple of what drivers ask for."""
_NOTHING = (0xFFFFFFFF, 0xFFFFFFFF, 0, 0)


@remote
def sampled_levels(session: Session, job: Task) -> SampledTextures:
    """Replay the frame once with shaders that note what they read. The picture has to stay what it is. Raises
    ReplayError, CancelledError.
    """
    frame = session.frame
    refused = session.cannot_note()
    if refused:
        return SampledTextures(refused=refused)
    if frame.context.es and ES_QUERY not in frame.context.extensions:
        return SampledTextures(refused="this context of OpenGL ES cannot tell which levels are read")
    job.progress("preparing shaders that note mip levels", 0.0)
    sources, slots = _noting(session)
    steps = [s for s, p in enumerate(frame.steps.program.tolist()) if p in slots and frame.steps.kind_name(s) == "draw"]
    if not steps:
        return SampledTextures(unclear=_all_read(frame))
    notes = np.tile(np.array(_NOTHING, np.uint32), (len(steps) * _MOST_SAMPLERS, 1)).tobytes()
    job.progress("replaying with shaders that note mip levels", 0.3)
    try:
        found = session.run_noting(sources, notes, [(s, k * _PART) for k, s in enumerate(steps)], _PART)
    except (ReplayError, TrialError) as error:
        return SampledTextures(refused=str(error))
    if found is None:
        return SampledTextures(refused="the picture changes while levels are noted")
    rows = np.frombuffer(found, np.uint32).reshape(len(steps), _MOST_SAMPLERS, NUMBERS)
    return _gathered(frame, slots, steps, rows)


def _noting(session: Session) -> tuple[dict[int, str], dict[int, dict[str, int]]]:
    """Program -> its fragment shader so that it notes, and sampler -> its place, for programs that note what they
    read.
    """
    sources: dict[int, str] = {}
    slots: dict[int, dict[str, int]] = {}
    for name, source in session.notable().items():
        try:
            samplers = noted_samplers(source)[:_MOST_SAMPLERS]
            if not samplers:
                continue
            places = {sampler: place for place, sampler in enumerate(samplers)}
            early = reads_early(read(source), source)
            sources[name] = with_levels_noted(source, places, NOTES, early, session.frame.context.es)
        except TrialError:
            continue
        slots[name] = places
    return sources, slots


def _all_read(frame: Frame) -> list[int]:
    return sorted({t for use in frame.uses.textures for t in np.unique(use.textures).tolist()} - {0})


def _gathered(frame: Frame, slots: dict[int, dict[str, int]], steps: list[int], notes: np.ndarray) -> SampledTextures:
    """What the notes of all steps say of each texture."""
    place = {step: row for row, step in enumerate(steps)}
    rows: dict[int, list[tuple[int, np.ndarray]]] = {}
    unclear: set[int] = set()
    for use in frame.uses.textures:
        slot = slots.get(use.program, {}).get(use.sampler.partition("[")[0])
        if slot is not None and _read_elsewhere(frame, use.program, use.sampler):
            slot = None
        for step, texture in zip(use.steps.tolist(), use.textures.tolist(), strict=True):
            if not texture:
                continue
            name = frame.stored_texture(texture)
            if slot is None or step not in place:
                unclear.add(name)
            else:
                rows.setdefault(name, []).append((step, notes[place[step], slot]))
    unclear |= _without_programs(frame)
    textures = [_summed(name, of) for name, of in sorted(rows.items()) if name not in unclear]
    return SampledTextures(textures, sorted(unclear))


def _read_elsewhere(frame: Frame, program: int, sampler: str) -> bool:
    """Whether a stage other than fragments does more with a sampler than to declare it."""
    record = frame.programs.get(program)
    others = [s for s in record.shaders if s.stage != Stage.FRAGMENT] if record is not None else []
    return any(names_beyond_declarations(s.source, sampler.partition("[")[0]) for s in others)


def _without_programs(frame: Frame) -> set[int]:
    """Textures that steps read whose programs are not known, or that other steps than draws read."""
    flow = frame.resource_flow
    known = {use.program for use in frame.uses.textures}
    reads: Iterable[tuple[int, int]] = zip(flow.reads[0].tolist(), flow.reads[1].tolist(), strict=True)
    found = set()
    for step, number in reads:
        kind, name = flow.resources[number]
        other = frame.steps.kind_name(step) not in ("draw", "mipmaps") or int(frame.steps.program[step]) not in known
        if kind == "texture" and other:
            found.add(name)
    return found


def _summed(name: int, of: list[tuple[int, np.ndarray]]) -> SampledTexture:
    notes = np.array([row for _, row in of], np.uint32)
    seen = notes[:, 0] != _NOTHING[0]
    finest, wanted = (float(notes[seen, k].min()) / SCALE - OFFSET if seen.any() else NEVER for k in (0, 1))
    steps = {step for (step, _), some in zip(of, seen.tolist(), strict=True) if some}
    return SampledTexture(name, finest, wanted, int(notes[:, 2].sum()), int(notes[:, 3].sum()), sorted(steps))
