"""What a known-answer program is, and how they are found."""

from __future__ import annotations

import importlib
import pkgutil
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any

Draw = Callable[[int], None]
Expected = Any
"""The steps of the findings of a rule (a set), how many findings there are (a number), or a test of the list of
findings.
"""


@dataclass(frozen=True)
class Case:
    """A program: called once to make its objects, it returns what draws a frame."""

    name: str
    make: Callable[[], Draw]
    profile: str
    finds: Mapping[str, Expected]
    """Rule -> what is to be found by it. Rules that promise the same picture and are not named here must find
    nothing.
    """
    proofs: Mapping[str, str]
    """Rule -> verdict of its proof where that is not the same picture and the same contents."""
    misses: Mapping[str, str]
    """Rule -> why what it should find is not found: listed, and not hidden."""
    allow: tuple[str, ...]
    """Rules that may find something or nothing."""
    checks: tuple[Callable[[Any], None], ...]
    """Further tests of what was found, which get the `Looked` of `test_known`."""
    arguments: Mapping[str, int] = field(default_factory=dict)


CASES: dict[str, Case] = {}


def known(
    finds: Mapping[str, Expected] | None = None,
    proofs: Mapping[str, str] | None = None,
    misses: Mapping[str, str] | None = None,
    allow: tuple[str, ...] = (),
    checks: tuple[Callable[[Any], None], ...] = (),
    profile: str = "core",
) -> Callable[[Callable[[], Draw]], Callable[[], Draw]]:
    """Register a program by the name of its function."""

    def register(make: Callable[[], Draw]) -> Callable[[], Draw]:
        assert make.__doc__, "the answer belongs in the docstring"
        assert make.__name__ not in CASES
        CASES[make.__name__] = Case(
            make.__name__, make, profile, finds or {}, proofs or {}, misses or {}, allow, checks
        )
        return make

    return register


def all_cases() -> dict[str, Case]:
    package = importlib.import_module(__package__ or "tests.known")
    for module in pkgutil.iter_modules(package.__path__):
        if not module.name.startswith(("_", "test_")):
            importlib.import_module(f"{package.__name__}.{module.name}")
    return CASES
