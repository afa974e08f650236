"""What shaders cost by the model; 1 is an addition."""

from __future__ import annotations

from collections.abc import Iterator

from wendascope.analysis.shaders.study import ProgramStudy
from wendascope.trials.checks.amounts._registry import How, Known, amount
from wendascope.trials.checks.scopes import Scope


def programs_in(known: Known, scope: Scope) -> Iterator[tuple[ProgramStudy, list[int]]]:
    """(program, those of its steps that a scope has)."""
    mine = set(scope.steps.tolist())
    for program in known.programs:
        steps = [step for step in program.steps if step in mine]
        if steps:
            yield program, steps


def most_expensive(known: Known, scope: Scope) -> ProgramStudy | None:
    """The program whose fragments cost most; None where none is understood."""
    found = [program for program, _ in programs_in(known, scope) if program.fragment_cost is not None]
    return max(found, key=lambda program: program.fragment_cost or 0.0, default=None)


@amount("shader cost", How.MODELLED)
def shader_cost(known: Known, scope: Scope) -> float | None:
    """Cost of one fragment of the most expensive program; 1 is an addition."""
    found = most_expensive(known, scope)
    return found.fragment_cost if found else None


@amount("shader work", How.MODELLED)
def shader_work(known: Known, scope: Scope) -> float | None:
    """Cost of all fragments, each by its program; 1 is an addition."""
    work = 0.0
    for program, steps in programs_in(known, scope):
        rows = [known.drawn.steps[step] for step in steps]
        if any(row.fragments < 0 for row in rows) or program.fragment_cost is None:
            return None
        work += program.fragment_cost * sum(row.fragments for row in rows)
    return work
