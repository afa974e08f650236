"""Which steps of a frame have an effect that somebody can see: through every chain of reads, in this frame and the
one after.

What is not certain counts as read. A step has an effect when it draws into the window, writes buffers, is counted
by a query, or writes an image that is read back, or that a step with an effect reads, at any time: a reader that
comes before its writer means the frame before.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from wendascope.frame.frame import Frame
from wendascope.frame.resource_flow import ResourceFlow


def without_effect(frame: Frame) -> npt.NDArray[np.bool_]:
    """Steps of the frame that nothing depends on, shape (steps,). None where the frame reads in ways that are not
    followed.
    """
    own = len(frame.steps)
    flow = frame.with_following.resource_flow
    return np.asarray(~live(flow)[:own]) if flow.followed else np.zeros(own, bool)


def live(flow: ResourceFlow) -> npt.NDArray[np.bool_]:
    """Steps with an effect, shape (steps,)."""
    resources = [*flow.reads[1].tolist(), *flow.writes[1].tolist(), *flow.read_back[1].tolist()]
    read = np.zeros(max(resources, default=-1) + 1, bool)
    read[flow.read_back[1]] = True
    found = flow.effects.copy()
    while True:
        read[flow.reads[1][found[flow.reads[0]]]] = True
        now = found.copy()
        now[flow.writes[0][read[flow.writes[1]]]] = True
        if (now == found).all():
            return found
        found = now


def reads_of_targets(frame: Frame) -> list[list[int]]:
    """For each pass the steps before which what was drawn into its target by then is read: it is seen, whatever
    covers it later.
    """
    passes, flow = frame.passes, frame.resource_flow
    back = np.searchsorted(frame.steps.call, flow.read_back[0])
    found: list[list[int]] = []
    for index, mine in enumerate(flow.targets):
        first, end = int(passes.first[index]), int(passes.end[index])
        at: set[int] = set()
        for steps, resources in ((flow.reads[0], flow.reads[1]), (back, flow.read_back[1])):
            inside = (steps > first) & (steps < end) & np.isin(resources, mine)
            at.update(steps[inside].tolist())
        found.append(sorted(at))
    return found
