"""What each pass does in its frame: shadow map, main view, secondary view, reflection, post-processing, overlay.

Worked out from the frame alone, without a replay: from who reads whose target, from formats, state and what is drawn.
Each role carries the facts that it follows from.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field
from enum import Enum
from typing import TYPE_CHECKING

import msgspec
import numpy as np

from wendascope.frame.numbers import Ints
from wendascope.frame.passes import Target
from wendascope.frame.steps import KINDS
from wendascope.texts import listed, plural, verb

if TYPE_CHECKING:
    from wendascope.frame.frame import Frame

_DRAW, _CLEAR, _DISPATCH, _BLIT = (KINDS.index(kind) for kind in ("draw", "clear", "dispatch", "blit"))
_QUAD = 6
"""Vertices that a triangle or two over the whole target have at most."""
_LOOKED_AT = 4
"""Draws of a view whose matrices are compared."""
_CUBE_FACES = range(0x8515, 0x851B)
"""Numbers of the faces of cube maps in the registry."""
_FEW = 4
"""Draws of a full-screen pass at most."""
_GRID = 64
"""Triangles of a full-screen mesh at most, where nothing but images drawn before is read, without depth."""


class Role(Enum):
    """What a pass is for. The values are what it is called."""

    SHADOW = "shadow"
    SHADOW_COPY = "shadow copy"
    PREPASS = "depth pre-pass"
    MAIN = "main view"
    SECONDARY = "secondary view"
    REFLECTION = "reflection"
    DOWN = "down-sampling"
    UP = "up-sampling"
    FILTER = "full-screen filter"
    COMBINE = "combining"
    FINAL = "final image"
    OVERLAY = "overlay"
    COMPUTE = "compute"
    COPY = "copy"
    CLEAR = "clear"
    OTHER = "other drawing"


POST = (Role.DOWN, Role.UP, Role.FILTER, Role.COMBINE, Role.FINAL)
"""Post-processing: one image made of others, over the whole target."""
SCENE = (Role.MAIN, Role.SECONDARY, Role.REFLECTION)
"""Views of a scene."""


@dataclass
class PassRole:
    """The role of one pass."""

    role: Role
    evidence: list[str]
    """Facts that it follows from, as sentences."""
    number: int = 0
    """Which of several views of its kind, from 1; 0 for the only one."""
    part: int = 0
    """Which of several goes into the images of its view, from 1; 0 for the only one."""
    of: int = 0
    """How many such goes there are."""
    reads: list[int] = field(default_factory=list)
    """Passes whose images it reads."""
    read_by: list[int] = field(default_factory=list)


def roles_of(frame: Frame) -> list[PassRole]:
    """The role of every pass."""
    return _Roles(frame).find()


class _Roles:
    def __init__(self, frame: Frame) -> None:
        self._frame = frame
        passes, flow = frame.passes, frame.resource_flow
        self._count = len(passes)
        self._kinds = [
            np.asarray(frame.steps.kind[int(a) : int(b)]) for a, b in zip(passes.first, passes.end, strict=True)
        ]
        self._own: list[set[int]] = [set(mine) for mine in flow.targets]
        self._readers: dict[int, Ints] = {}
        steps, resources = flow.reads
        order = np.argsort(resources, kind="stable")
        for part in np.split(order, np.flatnonzero(np.diff(resources[order])) + 1):
            if len(part):
                self._readers[int(resources[part[0]])] = np.unique(steps[part])
        self._reads = self._graph()
        self._read_by: list[list[int]] = [
            [q for q in range(self._count) if p in self._reads[q] and q != p] for p in range(self._count)
        ]

    def _graph(self) -> list[set[int]]:
        """Of each pass, the passes whose images it reads: all that wrote them since somebody else read them last; of
        the frame before where none did in this one.
        """
        of_step = self._frame.passes.of_step
        ends = self._ends()
        found: list[set[int]] = [set() for _ in range(self._count)]
        writers: dict[int, set[int]] = {}
        for index, mine in enumerate(self._own):
            for resource in mine:
                writers.setdefault(resource, set()).add(index)
        for resource, steps in self._readers.items():
            written = writers.get(resource, set())
            readers = set(map(int, np.unique(of_step[steps[steps < len(of_step)]])))
            current, was_read = sorted(written)[-1:], True
            for index in sorted(written | readers):
                if index in readers:
                    first = int(steps[of_step[steps] == index][0])
                    found[index].update(p for p in current if p > index or ends.get((p, resource), first + 1) > first)
                    was_read = True
                if index in written:
                    current = [index] if was_read else [*current, index]
                    was_read = False
        return found

    def _ends(self) -> dict[tuple[int, int], int]:
        """(pass, resource) -> the step by which all of what it wrote there has been cleared again."""
        flow, of_step = self._frame.resource_flow, self._frame.passes.of_step
        steps, resources = flow.writes
        found: dict[tuple[int, int], int] = {}
        for index, resource, end in zip(
            of_step[steps].tolist(), resources.tolist(), flow.overwritten.tolist(), strict=True
        ):
            found[index, resource] = max(found.get((index, resource), 0), end)
        return found

    # ---- features -------------------------------------------------------------------------------------

    def _draws(self, index: int) -> Ints:
        first = int(self._frame.passes.first[index])
        return first + np.flatnonzero(self._kinds[index] == _DRAW)

    def _colours(self, index: int) -> bool:
        """Whether the pass has colour to write: an attachment, not masked in all its draws."""
        target = self._frame.passes.targets[index]
        if target.framebuffer and not any(a.is_colour for a in target.attachments):
            return False
        draws = self._draws(index)
        return not len(draws) or not bool(self._frame.uses.writes_no_colour[draws].all())

    def _full_screen(self, index: int) -> bool:
        """Whether a few draws of a triangle or two make one image of others."""
        frame, draws = self._frame, self._draws(index)
        target = frame.passes.targets[index]
        if not 0 < len(draws) <= _FEW or not (self._reads[index] or self._makes_image(index, target)):
            return False
        small = (frame.steps.vertices[draws] <= _QUAD) & (frame.steps.triangles[draws] <= 2)
        return bool(small.all()) or self._image_of_images(index)

    def _image_of_images(self, index: int) -> bool:
        """Whether every draw of a pass is a small mesh without depth that reads nothing but images of other passes."""
        frame, draws = self._frame, self._draws(index)
        if not self._reads[index] - {index} or bool(frame.uses.depth.tests[draws].any()):
            return False
        if bool((frame.steps.triangles[draws] > _GRID).any()):
            return False
        flow = frame.resource_flow
        drawn = {
            flow.resources[number] for other in range(self._count) for number in self._own[other] if other != index
        }
        read: dict[int, set[int]] = {int(step): set() for step in draws}
        for use in frame.uses.textures:
            mine = np.isin(use.steps, draws)
            for step, texture in zip(use.steps[mine].tolist(), use.textures[mine].tolist(), strict=True):
                read[step].add(texture)
        return all(names and all(("texture", name) in drawn for name in names) for names in read.values())

    def _makes_image(self, index: int, target: Target) -> bool:
        """Whether an image is computed from nothing: by draws without depth and textures, where nothing was before."""
        draws = self._draws(index)
        sampled = any(np.isin(draws, use.steps).any() for use in self._frame.uses.textures)
        fresh = not any(self._own[other] & self._own[index] for other in range(index))
        depth = bool(self._frame.uses.depth.tests[draws].any())
        return bool(target.framebuffer) and fresh and not depth and not sampled

    def _size(self, index: int) -> int:
        target = self._frame.passes.targets[index]
        return target.width * target.height

    # ---- roles ----------------------------------------------------------------------------------------

    def find(self) -> list[PassRole]:
        found: list[PassRole | None] = [None] * self._count
        for index in range(self._count):
            found[index] = self._plain(index)
        scenes = [index for index in range(self._count) if found[index] is None]
        for index, role in self._scenes(scenes).items():
            found[index] = role
        roles = [role or PassRole(Role.OTHER, []) for role in found]
        for index, role in enumerate(roles):
            role.reads, role.read_by = sorted(self._reads[index]), self._read_by[index]
        self._number(roles)
        return roles

    def _plain(self, index: int) -> PassRole | None:
        """What needs no look at other views; None for a view of some scene."""
        kinds = self._kinds[index]
        if (kinds == _DISPATCH).any() and not (kinds == _DRAW).any():
            return PassRole(
                Role.COMPUTE, [f"It runs {plural(int((kinds == _DISPATCH).sum()), 'dispatch', 'dispatches')}."]
            )
        if not (kinds == _DRAW).any():
            if (kinds == _CLEAR).all():
                return PassRole(Role.CLEAR, ["It only clears its target."])
            to_window = not self._frame.passes.targets[index].framebuffer
            return PassRole(Role.FINAL if to_window else Role.COPY, ["It copies images and draws nothing."])
        if self._full_screen(index):
            return self._image(index)
        if not self._colours(index):
            return self._depth_only(index)
        return None

    def _image(self, index: int) -> PassRole:
        """A full-screen pass, by what it reads."""
        target = self._frame.passes.targets[index]
        sources = sorted(self._reads[index] - {index})
        draws = len(self._draws(index))
        fact = f"{plural(draws, 'draw')} of a triangle or two {verb(draws, 'reads', 'read')}"
        fact += f" {plural(len(sources) or int(bool(self._reads[index])), 'image')} drawn before."
        if not target.framebuffer:
            return PassRole(Role.FINAL, [fact, "Its target is the window."])
        if not self._colours(index):
            return PassRole(Role.SHADOW_COPY, [fact, "It writes depth only."])
        sizes = {self._size(source) for source in sources}
        distinct = {frozenset(self._own[source]) for source in sources}
        if len(distinct) > 1:
            return PassRole(Role.COMBINE, [fact])
        if sizes and min(sizes) > self._size(index):
            return PassRole(Role.DOWN, [fact, "What it reads is larger than its target."])
        if sizes and max(sizes) < self._size(index):
            return PassRole(Role.UP, [fact, "What it reads is smaller than its target."])
        return PassRole(Role.FILTER, [fact, *(["What it reads has the size of its target."] if sizes else [])])

    def _depth_only(self, index: int) -> PassRole:
        facts = ["It writes depth and no colour."]
        again = [
            q
            for q in range(index + 1, self._count)
            if self._own[q] & self._own[index] and self._colours(q) and len(self._draws(q))
        ]
        target = self._frame.passes.targets[index]
        if again and (target.framebuffer == 0 or self._own[again[0]] >= self._own[index]):
            return PassRole(Role.PREPASS, [*facts, "A later pass draws colour against the same depth."])
        if self._read_by[index]:
            count = len(self._read_by[index])
            facts.append(f"{plural(count, 'later pass', 'later passes')} {verb(count, 'reads', 'read')} that depth.")
        else:
            facts.append("Nothing in this frame reads that depth.")
        return PassRole(Role.SHADOW, facts + self._part_of_target(index))

    def _part_of_target(self, index: int) -> list[str]:
        """Where in its images a pass draws, where that is not everywhere: shadows of several lights share one."""
        frame, target = self._frame, self._frame.passes.targets[index]
        draws = self._draws(index)
        whole = f"{target.width} x {target.height} at 0, 0"
        faces = sorted({a.face for a in target.attachments if a.face})
        found = [f"It draws face {faces[0] - min(_CUBE_FACES) + 1} of a cube map."] if faces else []
        numbers = frame.uses.state.get("viewport")
        if numbers is not None and len(draws):
            _, firsts = np.unique(numbers[draws], return_index=True)
            places = [frame.setting_text(int(draws[first]), "viewport") for first in sorted(firsts.tolist())]
            if places != [whole]:
                found.append(f"It draws {listed(places[:4])} of {target.width} x {target.height}.")
        return found

    def _scenes(self, scenes: list[int]) -> dict[int, PassRole]:
        """Views: the main one is what most of the window comes from."""
        if not scenes:
            return {}
        weight = {index: int(self._frame.steps.vertices[self._draws(index)].sum()) + 1 for index in scenes}
        shown = {index for index in scenes if self._shown(index)}
        # a view is all passes into one set of images
        views: dict[frozenset[int], list[int]] = {}
        for index in scenes:
            key = frozenset(self._own[index]) if self._frame.passes.targets[index].framebuffer else frozenset({-1})
            views.setdefault(key, []).append(index)
        ranked = sorted(
            views.values(),
            key=lambda view: (any(i in shown for i in view), sum(weight[i] for i in view), len(view)),
            reverse=True,
        )
        main = ranked[0]
        found: dict[int, PassRole] = {}
        depth = self._frame.uses.depth
        for view in ranked:
            in_depth = False
            for index in view:
                draws = self._draws(index)
                tested = bool(depth.tests[draws].any())
                if view is main and not tested and in_depth:
                    found[index] = PassRole(Role.OVERLAY, ["It draws over the main view, without a depth test."])
                elif view is main:
                    in_depth |= tested
                    found[index] = PassRole(Role.MAIN, ["Of all views, most of what reaches the window comes from it."])
                elif not self._frame.passes.targets[index].framebuffer and not tested:
                    found[index] = PassRole(Role.OVERLAY, ["It draws into the window, without a depth test."])
                elif not tested and self._made_of(index) & set(main):
                    found[index] = PassRole(
                        Role.OVERLAY, ["It draws over an image of the main view, without a depth test."]
                    )
                elif not self._frame.passes.targets[index].framebuffer and self._copies(index) & set(main):
                    found[index] = PassRole(
                        Role.OVERLAY, ["It copies the main view into the window, and draws over it."]
                    )
                elif self._is_shadow_image(index):
                    found[index] = PassRole(Role.SHADOW, self._shadow_facts(index))
                elif self._positions_alone(index, main):
                    found[index] = PassRole(
                        Role.SHADOW,
                        [
                            "It draws what the main view draws, by positions alone and without textures: distances, not"
                            " colours.",
                            *self._part_of_target(index),
                        ],
                    )
                elif mirrored := self._mirrored(index, main):
                    found[index] = PassRole(Role.REFLECTION, [mirrored])
                else:
                    by = self._read_by[index]
                    others = f"{plural(len(by), 'other pass', 'other passes')} {verb(len(by), 'reads', 'read')}"
                    fact = f"{others if by else 'Nothing in this frame reads'} its image."
                    found[index] = PassRole(Role.SECONDARY, [fact])
        return found

    def _made_of(self, index: int) -> set[int]:
        """Passes whose images a pass reads, itself or through copies and full-screen passes."""
        seen: set[int] = set()
        waiting = list(self._reads[index] - {index})
        while waiting:
            at = waiting.pop()
            if at not in seen:
                seen.add(at)
                if self._full_screen(at) or not len(self._draws(at)):
                    waiting += self._reads[at]
        return seen

    def _shown(self, index: int) -> bool:
        """Whether a view reaches the window by copies and full-screen passes alone."""
        seen, waiting = {index}, [index]
        while waiting:
            at = waiting.pop()
            if not self._frame.passes.targets[at].framebuffer and not self._frame.passes.targets[at].window:
                return True
            for reader in self._read_by[at]:
                hands_on = self._full_screen(reader) or not len(self._draws(reader)) or at in self._copies(reader)
                if reader not in seen and hands_on:
                    seen.add(reader)
                    waiting.append(reader)
        return False

    def _copies(self, index: int) -> set[int]:
        """Passes whose images a pass copies into its own, rather than sampling them."""
        first = int(self._frame.passes.first[index])
        copying = first + np.flatnonzero(self._kinds[index] == _BLIT)
        steps, resources = self._frame.resource_flow.reads
        copied = set(resources[np.isin(steps, copying)].tolist())
        return {other for other in self._reads[index] if self._own[other] & copied}

    def _positions_alone(self, index: int, main: list[int]) -> bool:
        """Whether a view that others sample draws meshes of the main view by one attribute each, without textures,
        where the main view reads more of them.
        """
        frame, mine = self._frame, self._draws(index)
        theirs = np.concatenate([self._draws(i) for i in main])
        colours, _ = self._read_textures(index)
        if not colours or not len(mine) or not set(main) & set(self._read_by[index]):
            return False
        if any(np.isin(use.steps, mine).any() for use in frame.uses.textures):
            return False
        rows, lists = frame.uses.inputs
        few, more = ([len(lists[row]) for row in rows[draws].tolist()] for draws in (mine, theirs))
        shared = np.isin(frame.uses.mesh[mine], frame.uses.mesh[theirs])
        return max(few) == 1 < max(more, default=0) and bool(shared.mean() > 0.5)

    def _read_textures(self, index: int) -> tuple[set[int], set[int]]:
        """(colours, depths) of the pass's target that draws of other passes sample."""
        of_step = self._frame.passes.of_step
        read = {
            int(name)
            for use in self._frame.uses.textures
            for name in np.unique(use.textures[of_step[use.steps] != index])
        }
        mine = [a for a in self._frame.passes.targets[index].attachments if a.kind == "texture" and a.name in read]
        return {a.name for a in mine if a.is_colour}, {a.name for a in mine if not a.is_colour}

    def _is_shadow_image(self, index: int) -> bool:
        """Whether what others read of a view is its depth, or distances in place of colours."""
        colours, depths = self._read_textures(index)
        return bool(depths and not colours) or bool(
            colours and all(1 <= self._frame.texture_channels(name) <= 2 for name in colours)
        )

    def _shadow_facts(self, index: int) -> list[str]:
        colours, _ = self._read_textures(index)
        if colours:
            facts = ["What others read of it has one or two channels: distances, not colours."]
        else:
            facts = ["Others read its depth, and none of its colours."]
        return facts + self._part_of_target(index)

    def _mirrored(self, index: int, main: list[int]) -> str:
        """The fact that shows a view to be mirrored; empty where nothing does."""
        winding = self._frame.uses.clockwise
        mine = self._draws(index)
        theirs = np.concatenate([self._draws(i) for i in main])
        if len(mine) and len(theirs) and (winding[mine].mean() > 0.5) != (winding[theirs].mean() > 0.5):
            return "Its faces are wound the other way than in the main view."
        matrix = self._mirroring_matrix(mine, theirs)
        return f"Its {matrix} mirrors what the main view's does not." if matrix else ""

    def _mirroring_matrix(self, mine: Ints, theirs: Ints) -> str:
        """A matrix that all draws of one program share in each of two views, and whose determinant has another sign in
        one than in the other: its name.
        """
        programs = np.asarray(self._frame.steps.program)
        for program in np.intersect1d(programs[mine], programs[theirs]).tolist():
            signs: list[dict[str, float]] = []
            for draws in (mine[programs[mine] == program], theirs[programs[theirs] == program]):
                few = draws[np.unique(np.linspace(0, len(draws) - 1, _LOOKED_AT).astype(int))] if len(draws) else draws
                known = [self._frame.uses.matrices(step) for step in few.tolist()]
                shared = set.intersection(*(set(k) for k in known)) if len(known) > 1 else set()
                same = {n for n in shared if all(np.array_equal(k[n], known[0][n]) for k in known)}
                signs.append({n: float(np.sign(np.linalg.det(known[0][n].astype(float)))) for n in same})
            for name in sorted(signs[0].keys() & signs[1].keys()):
                if signs[0][name] * signs[1][name] < 0:
                    return name
        return ""

    def _number(self, roles: list[PassRole]) -> None:
        """Several views of one role are counted, and the parts of each: goes into the same images, of shadows for the
        same readers.
        """
        for role in {item.role for item in roles} - {*POST, Role.COPY, Role.CLEAR}:
            views: dict[tuple[object, ...], list[int]] = {}
            for index, item in enumerate(roles):
                if item.role == role:
                    window = self._frame.passes.targets[index].window
                    readers = tuple(self._read_by[index]) if role == Role.SHADOW else ()
                    views.setdefault((window, frozenset(self._own[index]), readers), []).append(index)
            for number, parts in enumerate(views.values(), 1):
                for part, index in enumerate(parts, 1):
                    roles[index].number = number if len(views) > 1 else 0
                    roles[index].part, roles[index].of = (part, len(parts)) if len(parts) > 1 else (0, 0)


ROLE_RECORD = "pass role"
"""What records of given roles are called in files; here, for whoever opens a frame needs them."""


class GivenRole(msgspec.Struct):
    """What somebody says that a pass does; an empty role takes it back. Kept in the file."""

    pass_index: int
    role: str = ""


def give_roles(frame: Frame, given: Iterable[GivenRole]) -> None:
    """Take the roles that somebody gave in place of those worked out; the newest of a pass counts, and those of passes
    that the frame does not have count nothing. Names follow.
    """
    newest = {item.pass_index: item.role for item in given if 0 <= item.pass_index < len(frame.passes)}
    roles = roles_of(frame)
    for index, text in newest.items():
        chosen = next((role for role in Role if role.value == text), None)
        if chosen is not None:
            roles[index] = PassRole(
                chosen, ["Given by the user."], reads=roles[index].reads, read_by=roles[index].read_by
            )
    take_roles(frame, roles)


def take_roles(frame: Frame, roles: list[PassRole]) -> None:
    """Roles of all passes in place of those that it has. Names follow."""
    if roles != frame.pass_roles:
        frame.pass_roles = roles
        frame.passes.ask_names_again()


def pass_names(frame: Frame, roles: list[PassRole]) -> list[str]:
    """A short name for every pass: its role, which of several it is, and how much it draws."""
    names = []
    for index, role in enumerate(roles):
        passes = frame.passes
        draws = int((frame.steps.kind[int(passes.first[index]) : int(passes.end[index])] == _DRAW).sum())
        name = role.role.value + (f" {role.number}" if role.number else "")
        part = f"{role.part}/{role.of}"
        name += (f" ({part})" if role.number else f" {part}") if role.of else ""
        if role.role in POST or role.role in (Role.COPY, Role.CLEAR):
            name += f", {passes.targets[index].size}"
        elif draws:
            name += f", {plural(draws, 'draw')}"
        names.append(name)
    return names
