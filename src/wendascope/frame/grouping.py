"""Steps in groups: by pass, role, purpose, program, mesh, textures, material or debug group, with readable names."""

from __future__ import annotations

from collections.abc import Callable
from functools import cached_property
from typing import TYPE_CHECKING

import numpy as np
import numpy.typing as npt

from wendascope.frame.numbers import Ints, Numbers, combined, numbered
from wendascope.frame.purposes import Purpose, purposes_of
from wendascope.frame.resources import holding_positions
from wendascope.frame.steps import KINDS
from wendascope.frame.uses import Primitive, UnknownContentsError
from wendascope.texts import plural

if TYPE_CHECKING:
    from wendascope.frame.frame import Frame

BY = ("pass", "role", "viewport", "purpose", "program", "mesh", "textures", "material", "debug group")
"""What steps can be grouped by. A material is a program with its textures; a viewport, the part of a target that a
light, an eye or a player has.
"""
_LEAST_BOX = 14
"""Vertices of a box as one strip."""
_SMALL = 36
"""Vertices of meshes whose positions are looked at for a shape that has a name."""


class Groups:
    """The groups of all steps by one thing. Names are worked out when they are asked for."""

    def __init__(self, of_step: Ints, name: Callable[[int, int], str]) -> None:
        """`name` gets the number of a group and its first step."""
        self.of_step = of_step
        """Which group each step is in, shape (steps,)."""
        firsts = np.full(int(of_step.max(initial=-1)) + 1, -1, np.int64)
        firsts[of_step[::-1]] = np.arange(len(of_step))[::-1]
        self.first: list[int] = firsts.tolist()
        """The first step of each group; -1 for one without steps."""
        self._name = name
        self._names: dict[int, str] = {}

    def __len__(self) -> int:
        return len(self.first)

    def name(self, group: int) -> str:
        if group not in self._names:
            self._names[group] = self._name(group, self.first[group])
        return self._names[group]

    def parts(self, steps: Ints) -> list[tuple[int, Ints]]:
        """Some steps as (group, those of them in it), in the order in which the groups begin."""
        if not len(steps):
            return []
        mine = self.of_step[steps]
        order = np.argsort(mine, kind="stable")
        pieces = np.split(order, np.flatnonzero(np.diff(mine[order])) + 1)
        return sorted(((int(mine[p[0]]), steps[p]) for p in pieces), key=lambda part: int(part[1][0]))


class Grouping:
    """All groupings of a frame, each worked out when first asked for."""

    def __init__(self, frame: Frame) -> None:
        self._frame = frame
        self._found: dict[str, Groups] = {}

    def by(self, what: str) -> Groups:
        """Groups by one of `BY`. A role is worked out anew each time, since the user can change it."""
        if what in ("pass", "role", "purpose"):
            return self._make(what)
        if what not in self._found:
            self._found[what] = self._make(what)
        return self._found[what]

    def _make(self, what: str) -> Groups:
        frame = self._frame
        match what:
            case "pass":
                return Groups(np.asarray(frame.passes.of_step, np.int64), lambda g, _s: frame.passes.names[g])
            case "role":
                return self._roles()
            case "purpose":
                return Groups(purposes_of(frame), lambda g, _s: list(Purpose)[g].value)
            case "program":
                return self._numbered(frame.uses.pipeline, self._program_name)
            case "mesh":
                return self._numbered(frame.uses.mesh, self._mesh_name)
            case "textures":
                return self._numbered(self._textures, self._textures_name)
            case "material":
                return self._numbered(combined(frame.uses.pipeline, self._textures), self._material_name)
            case "viewport":
                return self._viewports()
            case "debug group":
                return self._debug_groups()
        raise ValueError(f"steps are not grouped by {what!r}")

    # ---- keys ---------------------------------------------------------------------------------------------

    def _numbered(self, keys: Numbers, name: Callable[[int], str]) -> Groups:
        """Draws and dispatches by a key; the rest, which has no such thing, by kind."""
        kinds = np.asarray(self._frame.steps.kind, np.uint64)
        works = np.isin(kinds, [KINDS.index("draw"), KINDS.index("dispatch")])
        _, of_step = numbered(
            combined(np.where(works, keys, np.uint64(0)), np.where(works, np.uint64(0), kinds + np.uint64(1)))
        )
        return Groups(of_step, lambda _g, step: name(step) if works[step] else self._frame.step_name(step))

    def _roles(self) -> Groups:
        frame = self._frame
        labels = [f"{r.role.value} {r.number}" if r.number else r.role.value for r in frame.pass_roles]
        distinct = list(dict.fromkeys(labels))
        of_pass = np.array([distinct.index(label) for label in labels], np.int64)
        return Groups(of_pass[frame.passes.of_step] if len(labels) else of_pass, lambda g, _s: distinct[g])

    def _viewports(self) -> Groups:
        frame = self._frame
        numbers = frame.uses.state.get("viewport", np.zeros(len(frame.steps), np.uint64))
        # clears and copies do not look at it: they go with the draw after them, the last ones with the one before
        draws = np.flatnonzero(np.asarray(frame.steps.kind) == KINDS.index("draw"))
        if len(draws):
            after = np.searchsorted(draws, np.arange(len(numbers)))
            numbers = numbers[draws[np.minimum(after, len(draws) - 1)]]
        _, of_step = numbered(np.asarray(numbers, np.uint64))

        def name(_group: int, step: int) -> str:
            if not len(draws):
                return "viewport"
            draw = int(draws[min(int(np.searchsorted(draws, step)), len(draws) - 1)])
            return f"viewport {frame.setting_text(draw, 'viewport')}"

        return Groups(of_step, name)

    def _debug_groups(self) -> Groups:
        paths = [" / ".join(group) for group in self._frame.steps.group]
        distinct = {path: number for number, path in enumerate(dict.fromkeys(paths))}
        names = list(distinct)
        return Groups(
            np.array([distinct[p] for p in paths], np.int64), lambda g, _s: names[g] or "outside of debug groups"
        )

    @cached_property
    def _textures(self) -> Numbers:
        """Equal for steps that sample the same textures by the same names."""
        found = np.zeros(len(self._frame.steps), np.uint64)
        for use in self._frame.uses.textures:
            found[use.steps] = combined(found[use.steps], np.asarray(use.textures, np.uint64))
        return found

    # ---- names --------------------------------------------------------------------------------------------

    def _program_name(self, step: int) -> str:
        name = self._frame.program_name(int(self._frame.steps.program[step]))
        return "fixed-function pipeline" if name == "none" else name

    def _mesh_name(self, step: int) -> str:
        """The debug label where there is one, else a shape that has a name."""
        steps = self._frame.steps
        count = int(steps.vertices[step]) // max(int(steps.instances[step]), 1)
        label = self._frame.mesh_label(step) or shape_name(self._frame, step, count)
        return f"{label}, {plural(count, 'vertex', 'vertices')}"

    def _texture_names(self, step: int) -> list[str]:
        names: list[str] = []
        for use in self._frame.uses.textures:
            at = int(np.searchsorted(use.steps, step))
            if at < len(use.steps) and use.steps[at] == step and int(use.textures[at]):
                names.append(self._frame.texture_name(int(use.textures[at])))
        return list(dict.fromkeys(names))

    def _textures_name(self, step: int) -> str:
        return _listed(self._texture_names(step)) or "no texture"

    def _material_name(self, step: int) -> str:
        textures = self._texture_names(step)
        return self._program_name(step) + (f", {_listed(textures)}" if textures else "")


def _listed(names: list[str]) -> str:
    more = len(names) - 2
    return ", ".join(names[:2]) + (f" and {more} more" if more > 0 else "")


def shape_name(frame: Frame, step: int, count: int) -> str:
    """`quad` or `box` where the positions are those of one, else by the primitive."""
    primitive = int(frame.uses.primitive[step])
    if primitive != Primitive.TRIANGLES:
        return str({Primitive.POINTS: "points", Primitive.LINES: "lines"}.get(primitive, "mesh"))  # type: ignore[call-overload]
    positions = _positions(frame, step) if count <= _SMALL else None
    if positions is None:
        return "mesh"
    corners = np.unique(positions, axis=0)
    values = [len(np.unique(corners[:, axis])) for axis in range(corners.shape[1])]
    if len(corners) == 8 and values == [2, 2, 2] and count >= _LEAST_BOX:
        return "box"
    if len(corners) == 4 and sorted(values)[-2:] == [2, 2] and count in (4, 6):
        return "quad"
    return "mesh"


def _positions(frame: Frame, step: int) -> npt.NDArray[np.generic] | None:
    """Up to three components of what is most likely the position of each vertex; None where that is not known."""
    which, inputs = frame.uses.inputs
    chosen = holding_positions(inputs[int(which[step])])
    if chosen is None:
        return None
    try:
        return frame.uses.vertex_values(step, chosen)[:, :3]
    except UnknownContentsError:
        return None
