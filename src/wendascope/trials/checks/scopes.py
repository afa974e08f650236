"""What a limit is of: the whole frame, passes by name, a role, a debug group."""

from __future__ import annotations

import fnmatch
from dataclasses import dataclass

import numpy as np

from wendascope.frame.frame import Frame
from wendascope.frame.numbers import Ints, Mask
from wendascope.trials.checks.budget import Limit


@dataclass(frozen=True)
class Scope:
    """A part of a frame."""

    name: str
    """As it is told: `frame`, `pass depot`, `role main view`, `label trams`."""
    steps: Ints
    passes: Ints
    """Those that belong to it as a whole."""
    whole: bool = False
    """Whether it is the frame."""

    def calls(self, frame: Frame) -> Mask:
        """Calls that serve its steps, shape (calls,): each with what is called before it, the last with the rest."""
        if self.whole or not len(frame.steps):
            return np.ones(frame.call_count, bool)
        step = np.minimum(np.searchsorted(frame.steps.call, np.arange(frame.call_count)), len(frame.steps) - 1)
        mine = np.zeros(len(frame.steps), bool)
        mine[self.steps] = True
        return np.asarray(mine[step])


def scopes_of(frame: Frame, limit: Limit) -> list[Scope]:
    """The parts that a limit is of; none where nothing of the frame fits it."""
    of_step = np.asarray(frame.passes.of_step)
    if limit.pass_:
        names = frame.passes.names
        fitting = [i for i, name in enumerate(names) if fnmatch.fnmatchcase(name, limit.pass_)]
        return [of_pass(frame, i) for i in fitting]
    if limit.role:
        of_role = [i for i, role in enumerate(frame.pass_roles) if fnmatch.fnmatchcase(role.role.value, limit.role)]
        mine = np.flatnonzero(np.isin(of_step, of_role))
        return [Scope(f"role {limit.role}", mine, np.array(of_role))] if of_role else []
    if limit.label:
        groups = frame.steps.group
        known = {group: any(fnmatch.fnmatchcase(part, limit.label) for part in group) for group in set(groups)}
        mine = np.flatnonzero([known[group] for group in groups])
        return [Scope(f"label {limit.label}", mine, np.zeros(0, np.int64))] if len(mine) else []
    return [whole(frame)]


def of_pass(frame: Frame, index: int) -> Scope:
    """One pass."""
    steps = np.flatnonzero(np.asarray(frame.passes.of_step) == index)
    return Scope(f"pass {frame.passes.names[index]}", steps, np.array([index]))


def whole(frame: Frame) -> Scope:
    """The frame itself."""
    return Scope("frame", np.arange(len(frame.steps)), np.arange(len(frame.passes)), True)
