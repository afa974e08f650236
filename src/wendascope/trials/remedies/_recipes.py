"""Remedies as changes of a frame: recipes in the verbs that every backend has, and those that it makes by itself."""

from __future__ import annotations

from collections.abc import Callable, Iterable

from wendascope.backends import changes
from wendascope.backends.doors import Changes
from wendascope.errors import TrialError
from wendascope.frame.frame import Frame
from wendascope.frame.remedy import Remedy
from wendascope.trials.remedies._kinds import Claim, Clash, Gains, Phase, Trying, declare, kind_of

Recipe = Callable[[Changes, Remedy], None]
_recipes: dict[str, Recipe] = {}


def recipe(
    name: str, claim: Claim, trying: Trying = Trying.NEVER, gains: Gains = Gains.TIME, clash: Clash = Clash.NOTHING,
    phase: Phase = Phase.MIDDLE, leaves_out: bool = False,
) -> Callable[[Recipe], Recipe]:  # fmt: skip
    """Declare a kind of remedy, with what it does to a frame of any API."""

    def register(apply: Recipe) -> Recipe:
        declare(name, claim, trying, gains, clash, phase, leaves_out)
        _recipes[name] = apply
        return apply

    return register


def change_of(frame: Frame, remedies: Iterable[Remedy], space: int = 0, painted: bool = False) -> Changes:
    """All of them together, in the order of their phases. Raises TrialError."""
    change = changes(frame, space, painted)
    for item in sorted(remedies, key=lambda item: kind_of(item).phase):
        last = len(frame.steps)
        named = (item.steps, item.order, *item.orders, *(part.steps for part in item.parts))
        if any(not 0 <= step < last for steps in named for step in steps):
            raise TrialError("the remedy names steps that the frame does not have")
        if any(sorted(order) != list(range(min(order), max(order) + 1)) for order in item.orders if order):
            raise TrialError("the remedy orders steps that do not follow each other")
        _recipes.get(item.kind, type(change).apply)(change, item)
    return change
