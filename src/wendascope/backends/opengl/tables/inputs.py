"""What steps read: textures through the samplers of their program."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
import numpy.typing as npt

from wendascope.backends.opengl.calls.packed import CallStream
from wendascope.backends.opengl.objects.records import ProgramRecord, UniformRecord, sampler_targets
from wendascope.backends.opengl.state.tracker import StateHistory
from wendascope.frame.steps import KINDS
from wendascope.registry import GL, tables

if TYPE_CHECKING:
    from wendascope.backends.opengl.frame import OpenGLFrame

Ints = npt.NDArray[np.int64]

_SAMPLING = [KINDS.index(kind) for kind in ("draw", "dispatch")]


@dataclass(frozen=True)
class TextureInput:
    """A texture that a step reads."""

    uniform: str
    unit: int
    target: int
    texture: int


def texture_inputs(frame: OpenGLFrame, step: int) -> list[TextureInput]:
    """Textures bound to the samplers of a step's program, in the order of its uniforms."""
    call = int(frame.steps.call[step])
    program = frame.objects.program(int(frame.steps.program[step]))
    if program is None or frame.steps.kind_name(step) not in ("draw", "dispatch"):
        return []
    calls = np.array([call], np.int64)
    found = []
    for name, units, target, textures in _sampled(frame, program, calls):
        found.append(TextureInput(name, int(units[0]), target, int(textures[0])))
    return found


@dataclass(frozen=True)
class SamplerUse:
    """What one sampler of a program reads at each of the program's steps; arrays of shape (steps of the program,)."""

    program: int
    sampler: str
    target: int
    steps: Ints
    units: Ints
    textures: Ints


def sampler_uses(frame: OpenGLFrame) -> Iterator[SamplerUse]:
    """Every sampler of every program that draws or dispatches."""
    for name in np.unique(frame.steps.program).tolist():
        program = frame.objects.program(name)
        if program is None:
            continue
        rows = np.flatnonzero((frame.steps.program == name) & np.isin(frame.steps.kind, _SAMPLING))
        for label, units, target, textures in _sampled(frame, program, frame.steps.call[rows]):
            yield SamplerUse(name, label, target, rows, units, textures)


def _sampled(frame: OpenGLFrame, program: ProgramRecord, calls: Ints) -> Iterator[tuple[str, Ints, int, Ints]]:
    for uniform in program.uniforms:
        target = sampler_targets().get(uniform.type)
        if target is None:
            continue
        for element in range(len(uniform.locations)):
            units = frame.sampler_units.at(program, uniform, element, calls)
            textures = np.zeros(len(calls), np.int64)
            for unit in np.unique(units).tolist():
                mine = units == unit
                textures[mine] = frame.history.column("texture", calls[mine], GL.TEXTURE0 + unit, target)
            label = uniform.name if len(uniform.locations) == 1 else f"{uniform.name.removesuffix('[0]')}[{element}]"
            yield label, units, target, textures


class SamplerUnits:
    """Which texture unit every sampler of a frame reads, as any call finds it. What sets each is gathered once."""

    def __init__(self, calls: CallStream, history: StateHistory) -> None:
        self._calls, self._history = calls, history
        self._known: dict[tuple[int, int, int], tuple[Ints, Ints]] = {}
        self._arrays = np.array([command.name.endswith("v") for command in tables().commands], bool)

    def at(self, program: ProgramRecord, uniform: UniformRecord, element: int, calls: Ints) -> Ints:
        """Unit of one element of a sampler at each of some calls, shape (n,): set in the frame, or before it."""
        key = (program.name, uniform.locations[0], element)
        if key not in self._known:
            self._gather(program, uniform)
        setters, units = self._known[key]
        return units[np.searchsorted(setters, calls, side="left")]

    def _gather(self, program: ProgramRecord, uniform: UniformRecord) -> None:
        """For each element the calls that set it and the units, the first of which is from before the frame.

        An array may be set as a whole, in parts, and element by element: what a call sets is told by its own
        arguments, and one that names an element sets those after it as well, as far as its values reach.
        """
        count = len(uniform.locations)
        setters: list[list[Ints]] = [[] for _ in range(count)]
        values: list[list[Ints]] = [[] for _ in range(count)]
        events = self._history.events("uniform")
        for first, location in enumerate(uniform.locations):
            start, end = events.span(program.name, location)
            rows = np.arange(start, end)
            rows = rows[events.calls[rows] >= 0]
            arrays = self._arrays[self._calls.ids[events.calls[rows]]]
            setters[first].append(events.calls[rows[~arrays]])
            values[first].append(events.values[rows[~arrays], 0].astype(np.int64) & 0xFFFFFFFF)
            for call in events.calls[rows[arrays]].tolist():
                data = self._calls.argument(call, "value")
                units = (
                    np.frombuffer(data[: len(data) // 4 * 4], np.int32)
                    if isinstance(data, bytes)
                    else np.zeros(0, np.int32)
                )
                for element, unit in enumerate(units[: count - first].tolist(), first):
                    setters[element].append(np.array([call]))
                    values[element].append(np.array([unit]))
        for element in range(count):
            calls, units = np.concatenate(setters[element]), np.concatenate(values[element])
            order = np.argsort(calls, kind="stable")
            before = uniform.values[4 * element : 4 * element + 4]
            initial = int.from_bytes(before, "little") if len(before) == 4 else 0
            self._known[program.name, uniform.locations[0], element] = (
                calls[order],
                np.concatenate([[initial], units[order]]).astype(np.int64),
            )
