"""What steps read: textures through the samplers of their program."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
import numpy.typing as npt

from wendascope.frame.objects import ProgramRecord, UniformRecord
from wendascope.registry import GL, tables

if TYPE_CHECKING:
    from wendascope.frame.frame import Frame

Ints = npt.NDArray[np.int64]

_TARGET_BY_SUFFIX = {
    "1D": "TEXTURE_1D", "2D": "TEXTURE_2D", "3D": "TEXTURE_3D", "CUBE": "TEXTURE_CUBE_MAP", "2D_RECT": "TEXTURE_RECTANGLE",
    "1D_ARRAY": "TEXTURE_1D_ARRAY", "2D_ARRAY": "TEXTURE_2D_ARRAY", "CUBE_MAP_ARRAY": "TEXTURE_CUBE_MAP_ARRAY",
    "BUFFER": "TEXTURE_BUFFER", "2D_MULTISAMPLE": "TEXTURE_2D_MULTISAMPLE", "2D_MULTISAMPLE_ARRAY": "TEXTURE_2D_MULTISAMPLE_ARRAY",
}  # fmt: skip


def _sampler_targets() -> dict[int, int]:
    """Sampler type -> texture target that it reads."""
    targets = {}
    for suffix, target in _TARGET_BY_SUFFIX.items():
        for prefix in ("SAMPLER_", "INT_SAMPLER_", "UNSIGNED_INT_SAMPLER_"):
            for shadow in ("", "_SHADOW"):
                value = tables().enum_value.get(f"GL_{prefix}{suffix}{shadow}")
                if value is not None:
                    targets[value] = getattr(GL, target)
    return targets


SAMPLER_TARGETS = _sampler_targets()


@dataclass(frozen=True)
class TextureInput:
    """A texture that a step reads."""

    uniform: str
    unit: int
    target: int
    texture: int


def texture_inputs(frame: Frame, step: int) -> list[TextureInput]:
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


def sampler_uses(frame: Frame) -> Iterator[SamplerUse]:
    """Every sampler of every program that draws or dispatches."""
    for name in np.unique(frame.steps.program).tolist():
        program = frame.objects.program(name)
        if program is None:
            continue
        rows = np.flatnonzero(frame.steps.program == name)
        for label, units, target, textures in _sampled(frame, program, frame.steps.call[rows]):
            yield SamplerUse(name, label, target, rows, units, textures)


def _sampled(frame: Frame, program: ProgramRecord, calls: Ints) -> Iterator[tuple[str, Ints, int, Ints]]:
    for uniform in program.uniforms:
        target = SAMPLER_TARGETS.get(uniform.type)
        if target is None:
            continue
        for element, location in enumerate(uniform.locations):
            units = _units(frame, program, uniform, element, location, calls)
            textures = np.zeros(len(calls), np.int64)
            for unit in np.unique(units).tolist():
                mine = units == unit
                textures[mine] = frame.history.column("texture", calls[mine], GL.TEXTURE0 + unit, target)
            label = uniform.name if len(uniform.locations) == 1 else f"{uniform.name.removesuffix('[0]')}[{element}]"
            yield label, units, target, textures


def _units(frame: Frame, program: ProgramRecord, uniform: UniformRecord, element: int, location: int, calls: Ints) -> Ints:
    """Texture unit of one sampler as each call finds it: set in the frame, or before it."""
    before = uniform.values[4 * element : 4 * element + 4]
    initial = int.from_bytes(before, "little") if len(before) == 4 else 0
    setters = [frame.history.setter("uniform", int(c), program.name, location) for c in (calls[:1] if len(calls) else [])]
    values = frame.history.column("uniform", calls, program.name, location, missing=initial)
    if any(s is not None and frame.calls.command(s).name.endswith("v") for s in setters if s is not None and s >= 0):
        # set by an array form: the value lies in the arena
        values = np.array([_from_arena(frame, int(c), program.name, location, initial) for c in calls.tolist()], np.int64)
    return values


def _from_arena(frame: Frame, call: int, program: int, location: int, initial: int) -> int:
    setter = frame.history.setter("uniform", call, program, location)
    if setter is None or setter < 0:
        return initial
    data = frame.calls.argument(setter, "value") if frame.calls.command(setter).name.endswith("v") else None
    if isinstance(data, bytes) and len(data) >= 4:
        return int.from_bytes(data[:4], "little")
    return int((frame.history.value("uniform", call, program, location) or (initial,))[0])
