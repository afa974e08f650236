"""Several textures bound side by side, of which each draw picks one by its number."""

from __future__ import annotations

import struct
from dataclasses import dataclass

from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.backends.opengl.tables.inputs import TextureInput
from wendascope.errors import TrialError

LEAST_UNITS = 16
"""Units that the fragment shaders of every context may read, but for those of OpenGL ES 2."""


@dataclass(frozen=True)
class Bound:
    """A texture with the sampler object that it is read through; 0 for its own parameters."""

    texture: int
    sampler: int


@dataclass(frozen=True)
class SideBySide:
    """The textures of one sampler, each on a unit of its own."""

    bound: tuple[Bound, ...]
    units: tuple[int, ...]

    def value(self, bound: Bound) -> bytes:
        """What a draw that reads one of them is told: its number."""
        return struct.pack("<i", self.bound.index(bound))


def bound_at(frame: OpenGLFrame, step: int, item: TextureInput) -> Bound:
    """What a step reads through one of its samplers."""
    return Bound(item.texture, frame.history.number("sampler", int(frame.steps.call[step]), item.unit))


def side_by_side(
    frame: OpenGLFrame, wanted: dict[str, list[Bound]], inputs: list[TextureInput]
) -> dict[str, SideBySide]:
    """Units for the different textures of some samplers, given what each step reads through them, and all that the
    last step reads. Raises TrialError where there are too few units.
    """
    different = {sampler: tuple(dict.fromkeys(bound)) for sampler, bound in wanted.items()}
    taken = {item.unit for item in inputs if item.uniform not in wanted}
    limit = frame.context.limits.get("MAX_TEXTURE_IMAGE_UNITS", LEAST_UNITS)
    free = [unit for unit in range(limit) if unit not in taken]
    needed = sum(map(len, different.values()))
    if needed > len(free):
        raise TrialError(f"{needed} textures side by side need more than the {len(free)} free texture units here")
    found = {}
    for sampler, bound in different.items():
        found[sampler] = SideBySide(bound, tuple(free[: len(bound)]))
        free = free[len(bound) :]
    return found


def check_one_sampler_object(wanted: dict[str, list[Bound]]) -> None:
    """Raises TrialError where the draws sample through different sampler objects, which one texture cannot follow."""
    for sampler, bound in wanted.items():
        if len({b.sampler for b in bound}) > 1:
            raise TrialError(f"the draws read {sampler} through different sampler objects")
