"""What a finding is, and how the rules are found: every module of this package that registers one."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from functools import cached_property

import msgspec

from wendascope.analysis.drawn import Drawn, StepDrawn
from wendascope.discovery import import_all
from wendascope.frame.frame import Frame


class Remedy(msgspec.Struct):
    """A change of the frame that can be tried in the replay. `kind` names how; the rest is what it is done to."""

    kind: str
    steps: list[int]
    order: list[int] = []
    """The steps in a better order, where that is the remedy."""


class Finding(msgspec.Struct):
    """Something worth changing, with its evidence."""

    id: str
    rule: str
    page: str
    """The question it belongs to."""
    title: str
    why: str
    steps: list[int]
    evidence: dict[str, int | float | str]
    """Numbers that can be checked on screen, by what they are."""
    estimate_ms: float | None
    """Expected gain; None where nothing is expected of the frame time, or no times were measured."""
    how: str
    """How that was estimated."""
    price: str
    conditions: str
    remedy: Remedy | None = None
    refused: str = ""
    """Why it cannot be tried here, where there is no remedy."""


@dataclass
class Case:
    """Everything that rules may look at."""

    frame: Frame
    drawn: Drawn
    ms: list[float] | None
    """Time of each step run alone; None before they were measured."""

    def time_of(self, steps: Iterable[int]) -> float | None:
        """Sum of the times of some steps."""
        return None if self.ms is None else sum(self.ms[step] for step in steps)

    def weighted(self, shares: dict[int, float]) -> float | None:
        """Sum of each step's time by its share."""
        return None if self.ms is None else sum(self.ms[step] * share for step, share in shares.items())

    def steps_of(self, index: int) -> range:
        return range(int(self.frame.passes.first[index]), int(self.frame.passes.end[index]))

    def rows(self, index: int) -> Iterator[tuple[int, StepDrawn]]:
        """(step, what it drew) of the draws of a pass."""
        for step in self.steps_of(index):
            if self.frame.steps.kind_name(step) == "draw":
                yield step, self.drawn.steps[step]

    @cached_property
    def names(self) -> list[str]:
        return self.frame.passes.names


Rule = Callable[[Case], Iterable[Finding]]
_rules: dict[str, Rule] = {}


def finding(name: str) -> Callable[[Rule], Rule]:
    """Register a rule by its name, which its findings carry."""

    def register(rule: Rule) -> Rule:
        _rules[name] = rule
        return rule

    return register


def find(case: Case) -> list[Finding]:
    """All findings, the largest expected gain first; those without an estimate last."""
    import_all("wendascope.analysis.findings")
    found = [item for rule in _rules.values() for item in rule(case)]
    return sorted(found, key=lambda item: (-(item.estimate_ms or 0.0), item.id))
