"""Plans of the fewest draws for a frame: regions of steps that may change places, and what one draw holds in them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from wendascope.analysis.draws.draw_order import Touched, everywhere, moves_together, plan
from wendascope.analysis.draws.groups import classes
from wendascope.analysis.draws.sharing import Sharing
from wendascope.frame.numbers import Ints, Mask


@dataclass(frozen=True)
class PlannedDraw:
    """Steps that one draw could hold, in their order."""

    group: int
    steps: Ints
    always: bool
    """Whether state alone allows it: else it holds for what lies where in this picture."""
    in_place: bool
    """Whether its steps may be drawn where the last of them is, with all others where they are."""


@dataclass(frozen=True)
class Region:
    """Steps of one pass without anything between them that must keep its place."""

    pass_index: int
    order: list[int]
    """Its steps as the plan draws them."""
    draws: list[PlannedDraw]
    """Of more than one step."""
    count: int
    """Draws of the plan, single ones included."""
    least: int
    """No order of the same groups has fewer."""


def regions_of(sharing: Sharing) -> list[Ints]:
    """Steps without anything between them that must keep its place, as far as a pass goes."""
    return classes(sharing.sides, np.flatnonzero(sharing.movable))


def plan_regions(
    sharing: Sharing, groups: Sequence[Ints], touched: Touched | None, seconds: float = 1.0
) -> list[Region]:
    """A plan for every region. `groups` are steps that could be one draw wherever they may come next to each other; a
    step is in one group at most. `touched` says what lies where, None where that is not known. `seconds` is what lower
    bounds may take.
    """
    group_of = np.full(len(sharing.calls), -1, np.int64)
    for number, steps in enumerate(groups):
        group_of[steps] = number
    found = []
    regions = regions_of(sharing)
    movable = max(sum(map(len, regions)), 1)
    for steps in regions:
        named = group_of[steps]
        alone = named < 0
        named[alone] = len(groups) + np.arange(int(alone.sum()))
        found.append(_plan(sharing, steps, named, len(groups), touched, seconds * len(steps) / movable))
    return found


def _plan(sharing: Sharing, steps: Ints, groups: Ints, count: int, touched: Touched | None, seconds: float) -> Region:
    commuting = sharing.commuting[steps]
    nothing_known = everywhere(len(steps))
    at = nothing_known if touched is None else touched.chosen(steps)
    if touched is not None and at.strict.any():
        # state alone says nothing of equal depths: those that were measured hold for every plan
        nothing_known = nothing_known.with_strict(at.only_strict)
    # what lies where leaves more orders than state alone: the bound is that of all of them, whichever plan is taken
    here = plan(at, groups, commuting, seconds)
    always = here if touched is None else plan(nothing_known, groups, commuting, 0)
    chosen = here if len(here.draws) < len(always.draws) else always
    of_always = np.zeros(len(steps), np.int64)
    for number, draw in enumerate(always.draws):
        of_always[draw] = number
    draws = []
    for draw in chosen.draws:
        group = int(groups[draw[0]])
        if len(draw) < 2 or group >= count:
            continue
        member: Mask = np.zeros(len(steps), bool)
        member[draw] = True
        by_state = len(set(of_always[draw].tolist())) == 1
        draws.append(PlannedDraw(group, steps[draw], by_state, moves_together(at, member, commuting)))
    return Region(
        int(sharing.frame.passes.of_step[steps[0]]), steps[chosen.order].tolist(), draws, len(chosen.draws), here.least
    )
