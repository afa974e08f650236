"""Views that are drawn in every frame and might be drawn less often: which these are, and how the picture looks where
one of them shows what it showed some frames ago.
"""

from __future__ import annotations

import msgspec
import numpy as np

from wendascope.frame.frame import Frame
from wendascope.frame.passes import PassKey, Target
from wendascope.frame.roles import Role

_LAYERS = {Role.MAIN, Role.SECONDARY, Role.OTHER, Role.OVERLAY, Role.CLEAR}
_LEAST_STEPS = 8
RATES = (2, 3, 4)
"""A view drawn in every second, third and fourth frame only."""
FAR = 16
"""Of 255: a difference beyond it can be seen."""
_FEW_PIXELS = 0.001
"""Of a picture: fewer than that are a detail."""


class Late(msgspec.Struct):
    """How one frame's picture differs where a view is from an earlier frame."""

    frame: int
    """Number in the sequence, from 1."""
    frames_ago: int
    pixels_different: int
    pixels_far: int
    """Of them those that differ by more than `FAR`."""
    max_difference: int
    """Of 255."""
    where: tuple[int, int, int, int] | None = None
    """(x0, y0, x1, y1) that holds all pixels that differ, y from the bottom."""


class LateView(msgspec.Struct):
    """One view over the frames of a sequence."""

    passes: list[PassKey]
    """What draws it."""
    late: list[Late] = []
    refused: str = ""
    """Why it could not be tried; empty where it was."""
    changes: int = 0
    """In how many frames it comes out otherwise than in the one before."""
    moved: list[tuple[int, int, int]] = []
    """(frame, columns, rows): frames in which it is that of the frame before, moved by whole pixels."""
    name: str = ""
    """For people."""

    @property
    def scrolls(self) -> bool:
        """Whether each is the one before, moved by whole pixels, wherever it changes."""
        return bool(self.moved) and len(self.moved) >= self.changes

    def worst(self, rate: int) -> Late | None:
        """Where the picture differs most if the view is drawn in every `rate`-th frame; None where no frame tells."""
        known = [late for late in self.late if late.frames_ago < rate]
        if not any(late.frames_ago == rate - 1 for late in known):
            return None
        return max(known, key=lambda late: (late.pixels_far, late.pixels_different, late.max_difference))

    def rate_unseen(self, pixels: int) -> int:
        """The lowest of `RATES` that hardly shows in a picture of so many pixels, each after the ones before it; 1
        where none does.
        """
        found = 1
        for rate in RATES:
            worst = self.worst(rate)
            if worst is None or worst.pixels_far > _FEW_PIXELS * pixels:
                break
            found = rate
        return found


class LateViews(msgspec.Struct):
    """The views of a sequence that were tried."""

    views: list[LateView]


def layers_of(frame: Frame) -> list[list[int]]:
    """The same, and passes of several draws into one colour image that something reads later: what may be a layer."""
    views = secondary_views(frame)
    taken = {index for passes in views for index in passes}
    found = []
    for passes in sharing_images(frame.passes.targets):
        roles = {frame.pass_roles[index].role for index in passes}
        draws = sum(frame.passes.end[index] - frame.passes.first[index] for index in passes)
        read = any(frame.pass_roles[index].read_by for index in passes)
        colour = any(a.is_colour for index in passes for a in frame.passes.targets[index].attachments)
        if not taken & set(passes) and roles <= _LAYERS and draws >= _LEAST_STEPS and read and colour:
            found.append(passes)
    return [*views, *found]


def secondary_views(frame: Frame) -> list[list[int]]:
    """Passes that draw something beside the main view, which it may then look at: secondary views, reflections and
    shadows, those together that draw into common images. No passes whose image is the main view's as well, and none
    whose image this frame does not read once it is drawn: a later frame shows it, where nobody looks here.
    """
    roles = frame.pass_roles
    wanted = {Role.SECONDARY, Role.REFLECTION, Role.SHADOW}
    beside = {Role.SHADOW_COPY, Role.CLEAR, Role.COPY, Role.DOWN, Role.UP, Role.FILTER, Role.OVERLAY, Role.OTHER}
    found = []
    for passes in sharing_images(frame.passes.targets):
        mine = {roles[index].role for index in passes}
        if mine & wanted and mine <= wanted | beside and _is_read_after(frame, passes):
            found.append(passes)
    return found


def _is_read_after(frame: Frame, passes: list[int]) -> bool:
    """Whether a step of the frame reads what some passes draw, after they have."""
    images = {(a.kind, a.name) for index in passes for a in frame.passes.targets[index].attachments}
    flow = frame.resource_flow
    numbers = [number for number, resource in enumerate(flow.resources) if resource in images]
    last = max(int(frame.passes.end[index]) for index in passes)
    steps, resources = flow.reads
    return not flow.followed or bool((np.isin(resources, numbers) & (steps >= last)).any())


def sharing_images(targets: list[Target]) -> list[list[int]]:
    """Passes of textures and renderbuffers, those together that draw into a common colour; of depth where there is no
    colour.
    """
    groups: list[tuple[set[tuple[str, int]], list[int]]] = []
    for index, target in enumerate(targets):
        colours = {(a.kind, a.name) for a in target.attachments if a.is_colour}
        images = colours or {(a.kind, a.name) for a in target.attachments}
        if not target.framebuffer or not images:
            continue
        shared = [group for group in groups if group[0] & images]
        groups = [group for group in groups if not group[0] & images]
        names = images.union(*(group[0] for group in shared))
        groups.append((names, [*(i for group in shared for i in group[1]), index]))
    return [passes for _, passes in groups]
