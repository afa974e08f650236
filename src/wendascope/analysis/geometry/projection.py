"""What a depth is as a distance: read from the perspective that the draws of a pass share."""

from __future__ import annotations

import functools
import re
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from wendascope.frame.frame import Frame
from wendascope.glsl.stages import Stage
from wendascope.glsl.words import without_comments

_PARALLEL = 1e-3
"""Rows count as parallel whose directions differ by less."""
_NAME = re.compile(r"[A-Za-z_]\w*")
_ASSIGNED = re.compile(r"\b([A-Za-z_]\w*)(?:\.\w+|\[[^\]]*\])*\s*[-+*/]?=(?!=)([^;]*);")
_FUNCTION = re.compile(r"\b([A-Za-z_]\w*)\s*\([^(){};]*\)\s*\{")
_MACRO = re.compile(r"^[ \t]*#[ \t]*define[ \t]+([A-Za-z_]\w*)(.*)$", re.MULTILINE)
_ALIKE = 1e-3
"""Perspectives count as one whose numbers differ by so small a part."""


@dataclass(frozen=True)
class Perspective:
    """Depth before division is `scale` times the distance along the view, plus `offset`."""

    matrix: str
    """The name that it was read from."""
    scale: float
    offset: float

    def agrees(self, other: Perspective) -> bool:
        """Whether both give the same distances."""
        return np.allclose((self.scale, self.offset), (other.scale, other.offset), rtol=_ALIKE, atol=1e-9)

    def distance(
        self, depth: npt.NDArray[np.float32], near: float = 0.0, far: float = 1.0, from_zero: bool = False
    ) -> npt.NDArray[np.float32]:
        """Of each depth that a target holds, along the view, in the program's own units; infinite where nothing can be.

        `near` and `far` are the depth range of the viewport; `from_zero` says that depths run from 0 before it, not
        from -1.
        """
        share = (depth.astype(np.float64) - near) / (far - near if far != near else 1.0)
        clip = share if from_zero else 2 * share - 1
        with np.errstate(divide="ignore", invalid="ignore"):
            found = self.offset / (clip - self.scale)
        return np.where(np.isfinite(found) & (found > 0), found, np.inf).astype(np.float32)


def perspective_in(name: str, matrix: npt.NDArray[np.float32]) -> Perspective | None:
    """The perspective of a matrix that takes points to clip space, column by column; None for one without.

    Its last row measures the distance along the view; in the row of depth the same direction comes again, scaled. Both
    stay so whatever view and model the matrix was multiplied with.
    """
    depth, along = (np.asarray(matrix[:, row], np.float64) for row in (2, 3))
    if not np.isfinite(matrix).all():
        return None
    length = float(np.linalg.norm(along[:3]))
    if length < 1e-6:
        return None  # parallel: its depths are distances as they are
    scale = float(depth[:3] @ along[:3]) / length**2
    if float(np.linalg.norm(depth[:3] - scale * along[:3])) > _PARALLEL * max(abs(scale), 1.0) * length:
        return None
    offset = float(depth[3] - scale * along[3])
    return Perspective(name, scale, offset) if offset else None


def perspective_of(frame: Frame, step: int) -> Perspective | None:
    """The one by which all draws have their place that the pass of a step has come to by then; None where they have
    none, or several.
    """
    index = int(frame.passes.of_step[step])
    steps = range(int(frame.passes.first[index]), step + 1)
    last = {int(frame.steps.program[s]): s for s in steps if frame.steps.kind_name(s) == "draw"}
    found: Perspective | None = None
    for program, chosen in last.items():
        record = frame.programs.get(program)
        sources = [s.source for s in record.shaders if s.stage == Stage.VERTEX and s.source] if record else []
        behind = set[str]().union(*map(names_behind_position, sources))
        for name, matrix in frame.uses.matrices(chosen).items():
            if _last_part(name) not in behind:
                continue  # a light's, as for what lies in its shadow
            own = perspective_in(name, matrix)
            if own is None:
                continue
            if found is not None and not found.agrees(own):
                return None
            found = found or own
    return found


def _last_part(uniform: str) -> str:
    """`view` of `camera.view` and of `views[0]`."""
    return uniform.rpartition(".")[2].partition("[")[0]


def _outermost(text: str) -> Iterator[str]:
    """Pieces of a source that end where an outermost brace does."""
    depth, begin = 0, 0
    for mark in re.finditer("[{}]", text):
        depth += 1 if mark.group() == "{" else -1
        if depth == 0:
            yield text[begin : mark.end()]
            begin = mark.end()


@functools.lru_cache(maxsize=256)
def names_behind_position(source: str) -> frozenset[str]:
    """Names in a vertex shader that its position is made of, with those that they are made of in turn. Every assignment
    to a name counts, in whatever function: rather one name too many than one too few.
    """
    text = without_comments(source)
    made_of: dict[str, set[str]] = {}
    for name, expression in _ASSIGNED.findall(text):
        made_of.setdefault(name, set()).update(_NAME.findall(expression))
    for part in _outermost(text):
        if (function := _FUNCTION.search(part)) is not None:
            made_of.setdefault(function[1], set()).update(_NAME.findall(part[function.start() :]))
    for name, body in _MACRO.findall(text):
        made_of.setdefault(name, set()).update(_NAME.findall(body))
    found, left = set[str](), ["gl_Position"]
    while left:
        fresh = made_of.get(left.pop(), set()) - found
        found |= fresh
        left += fresh
    return frozenset(found)
