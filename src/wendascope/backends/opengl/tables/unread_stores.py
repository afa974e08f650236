"""Renderbuffers that only make a framebuffer complete: drawn into, never cleared, and read by nothing."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from wendascope.frame.steps import KINDS
from wendascope.registry import GL, Role

if TYPE_CHECKING:
    from wendascope.backends.opengl.frame import OpenGLFrame


def unread_stores(frame: OpenGLFrame) -> set[tuple[str, int]]:
    """(kind, name) of renderbuffers with colours that no step, blit or readback of the frame and of the one after it
    reads, that no blending mixes with, and that nothing clears: what they hold depends on all frames before, so no
    program can mean it. Depth and stencil are read by their tests.
    """
    whole = frame.with_following
    flow, passes = whole.resource_flow, whole.passes
    if not frame.knows_following or not (flow.followed or _lists_only_draw(whole)):
        return set()
    read = set(flow.reads[1].tolist()) | set(flow.read_back[1].tolist())
    numbers = {resource: number for number, resource in enumerate(flow.resources)}
    found, meant = set[tuple[str, int]](), set[tuple[str, int]]()
    kinds = np.asarray(whole.steps.kind)
    for index, target in enumerate(passes.targets):
        stores = {(a.kind, a.name) for a in target.attachments if a.kind == "renderbuffer" and a.is_colour}
        if not stores:
            continue
        found |= stores
        steps = np.arange(int(passes.first[index]), int(passes.end[index]))
        others = ~np.isin(kinds[steps], (KINDS.index("draw"), KINDS.index("clear")))
        cleared = any(_clears_colour(whole, int(step)) for step in steps[kinds[steps] == KINDS.index("clear")])
        if whole.uses.mixes_colours[steps].any() or others.any() or cleared:
            meant |= stores
    return {store for store in found - meant if store in numbers and numbers[store] not in read}


def _lists_only_draw(frame: OpenGLFrame) -> bool:
    """Whether nothing but display lists keeps the frame from being followed, and none of these reads a framebuffer."""
    unfollowed = np.flatnonzero(frame.calls.having(Role.UNFOLLOWED_READS)).tolist()
    lists = all(frame.calls.command(call).name in ("glCallList", "glCallLists") for call in unfollowed)
    return lists and not frame.lists.having(Role.COPY | Role.READS_PIXELS).any()


def _clears_colour(frame: OpenGLFrame, step: int) -> bool:
    """What is not a plain clear may clear anything."""
    call = int(frame.steps.call[step])
    if frame.calls.command(call).name != "glClear":
        return True
    return bool(int(frame.calls.argument(call, "mask")) & GL.COLOR_BUFFER_BIT)
