"""Which steps of a frame have an effect that somebody can see: through every chain of reads, in this frame and the
one after.

What is not certain counts as read. A step has an effect when it draws into the window, writes buffers, is counted
by a query, or writes an image that is read back, or that a step with an effect reads: before a clear that replaces
what was written, or else at any time, for a reader that comes before its writer means the frame before.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from wendascope.frame.frame import Frame
from wendascope.frame.numbers import Ints
from wendascope.frame.resource_flow import ResourceFlow


def without_effect(frame: Frame) -> npt.NDArray[np.bool_]:
    """Steps of the frame that nothing depends on, shape (steps,). None where the frame reads in ways that are not
    followed.
    """
    own, whole = len(frame.steps), frame.with_following
    flow = whole.resource_flow
    return np.asarray(~live(flow, whole.steps.call)[:own]) if flow.followed else np.zeros(own, bool)


def live(flow: ResourceFlow, calls: Ints) -> npt.NDArray[np.bool_]:
    """Steps with an effect, shape (steps,), whose calls are `calls`."""
    resources = [*flow.reads[1].tolist(), *flow.writes[1].tolist(), *flow.read_back[1].tolist()]
    count = max(resources, default=-1) + 1
    # times are counted twice, so that what is read back comes between two steps
    steps, written = flow.writes
    until = 2 * flow.overwritten
    lasting = flow.overwritten >= len(flow.effects)
    any_time = flow.read_back[0] < 0
    always = np.zeros(count, bool)
    always[flow.read_back[1][any_time]] = True
    back = 2 * np.searchsorted(calls, flow.read_back[0][~any_time]) - 1
    # what a step with an effect of its own draws over may be part of that effect
    over = flow.effects[steps]
    fixed = [(back, flow.read_back[1][~any_time]), (2 * steps[over], written[over])]
    span = 2 * len(flow.effects) + 2
    found = flow.effects.copy()
    while True:
        mine = found[flow.reads[0]]
        events = [*fixed, (2 * flow.reads[0][mine], flow.reads[1][mine])]
        read = always.copy()
        for _, of_event in events:
            read[of_event] = True
        keys = np.sort(np.concatenate([of_event * span + time + 1 for time, of_event in events]))
        after = np.searchsorted(keys, written * span + 2 * steps + 1, side="right")
        before = np.searchsorted(keys, written * span + until + 1, side="left")
        seen = np.where(lasting, read[written], (before > after) | always[written])
        now = found.copy()
        now[steps[seen]] = True
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
