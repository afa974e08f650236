"""What a rule is: everything that is known of its findings besides their numbers, in one place.

A rule is declared where its findings are made (`@finding(Rule(...))`), and whoever groups, sorts, tries or shows
findings asks it. Nothing else lists names of rules.
"""

from __future__ import annotations

import enum
from collections.abc import Callable
from dataclasses import dataclass, field

from wendascope.advice.causes import ITSELF, Cause
from wendascope.discovery import import_all


class Side(enum.StrEnum):
    """Whom a change helps."""

    GPU = "GPU"
    CPU = "CPU"
    MEMORY = "memory"


class Effort(enum.StrEnum):
    """What kind of work it is."""

    SETTING = "setting"
    SHADER = "shader edit"
    ASSET = "asset"
    SUBMISSION = "draw submission"
    CODE = "program logic"


class Verify(enum.StrEnum):
    """How what a rule claims is held against the frame."""

    REPLAY = "its remedy is applied and replayed"
    FRAGMENTS = "its remedy is replayed, and fragments counted before it is shown"
    TIMED = "both forms are timed in turns before it is shown"
    COUNTED = "it is counted in the frame, and has no picture"
    ADVICE = "it is advice: no change of the captured frame stands for it"


@dataclass(frozen=True)
class Rule:
    """One rule. Only `name` tells it apart."""

    name: str
    page: str = field(compare=False)
    """The question in the rail that its findings belong to."""
    side: Side = field(compare=False)
    effort: Effort = field(compare=False)
    verify: Verify = field(compare=False, default=Verify.REPLAY)
    risk: str = field(compare=False, default="")
    """What to look at after the change, where a proof cannot tell; empty where the proof's word is enough."""
    cause: Cause = field(compare=False, default=ITSELF)
    """What its findings are grouped by."""
    leaves_out: bool = field(compare=False, default=False)
    """Whether its remedy leaves all its steps out: others on the same steps then gain nothing."""
    joins_draws: bool = field(compare=False, default=False)
    """Whether several draws become one: the program's own time between their calls goes with them."""
    title: Callable[[str, int], str] | None = field(compare=False, default=None)
    """(pass, count of steps) -> the title of a finding, where a try may leave fewer steps than were found."""
    whole: bool = field(compare=False, default=False)
    """Whether its remedy holds what single findings of other rules that join draws are parts of."""


UNKNOWN = Rule("", "Findings", Side.GPU, Effort.CODE, Verify.ADVICE)
"""Of findings that another version of the program made."""

_rules: dict[str, Rule] = {}


def register(rule: Rule) -> None:
    """Make a rule known by its name."""
    _rules[rule.name] = rule


def rule_named(name: str) -> Rule:
    """The rule of a name; one that nothing is said of where this version has none."""
    import_all("wendascope.advice.findings")
    return _rules.get(name, UNKNOWN)


def known_rules() -> list[Rule]:
    """All rules, in the order in which they were registered."""
    import_all("wendascope.advice.findings")
    return list(_rules.values())
