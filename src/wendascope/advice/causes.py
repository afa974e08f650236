"""What findings have in common when one change answers them all: told once, as one recommendation."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from wendascope.frame.grouping import shape_name
from wendascope.frame.roles import SCENE
from wendascope.texts import capital, joined_parts, listed, plural

if TYPE_CHECKING:
    from wendascope.advice.findings._registry import Case, Finding

Key = tuple[object, ...]


@dataclass(frozen=True)
class Cause:
    """`key` tells findings of one cause; `title` names several of them together; `words` say what they share."""

    words: str
    key: Callable[[Case, Finding], Key]
    title: Callable[[Case, Sequence[Finding]], str]


def passes_of(case: Case, steps: Sequence[int]) -> list[int]:
    """The passes that some steps belong to, in their order."""
    return np.unique(np.asarray(case.frame.passes.of_step)[list(steps)]).tolist() if len(steps) else []


def steps_of(findings: Sequence[Finding]) -> list[int]:
    """All steps of some findings, each once."""
    return sorted({step for finding in findings for step in finding.steps})


def _passes(case: Case, findings: Sequence[Finding]) -> str:
    return plural(len(passes_of(case, steps_of(findings))), "pass", "passes")


def _meshes(case: Case, finding: Finding) -> list[int]:
    return sorted({int(case.frame.uses.mesh[step]) for step in finding.steps})


def _what(case: Case, steps: list[int]) -> str:
    """What is drawn, as a person would call it: a debug group that all share, else facts."""
    frame = case.frame
    inner = {frame.steps.group[s][-1] for s in steps if frame.steps.group[s]}
    if len(inner) == 1 and all(frame.steps.group[s] for s in steps):
        return next(iter(inner))
    vertices = np.unique(np.asarray(frame.steps.vertices)[steps])
    if len({int(frame.uses.mesh[s]) for s in steps}) == 1:
        label = frame.mesh_label(steps[0]) or shape_name(frame, steps[0], int(vertices[0]))
        return f"{capital(label)} of {plural(int(vertices[0]), 'vertex', 'vertices')}"
    programs = sorted({int(p) for p in np.asarray(frame.steps.program)[steps]})
    drawn = listed([frame.program_name(p) for p in programs[:2]])
    return f"Meshes of up to {int(vertices[-1]):,} vertices, {drawn}"


# ---- each finding by itself, or all of a rule --------------------------------------------------------------


def _more_of_it(_case: Case, findings: Sequence[Finding]) -> str:
    return f"{findings[0].title}, and {plural(len(findings) - 1, 'finding')} of the same cause"


ITSELF = Cause("one rule in several passes", lambda _case, finding: (finding.rule, finding.id), _more_of_it)
"""Every finding is a cause of its own."""


def _of_one_rule(_case: Case, finding: Finding) -> Key:
    return (finding.rule,)


def whole_rule(title: Callable[[Case, Sequence[Finding]], str]) -> Cause:
    """All findings of a rule together, in whatever pass."""
    return Cause("one rule in several passes", _of_one_rule, title)


HIDDEN = whole_rule(
    lambda case, found: f"{plural(len(steps_of(found)), 'draw')} in {_passes(case, found)} leave no visible fragment"
)
OUTSIDE = whole_rule(
    lambda case, found: f"{plural(len(steps_of(found)), 'draw')} in {_passes(case, found)} lie outside the view"
)
FACING_AWAY = whole_rule(
    lambda case, found: f"{plural(len(steps_of(found)), 'draw')} in {_passes(case, found)} face away"
)


def _unread(case: Case, findings: Sequence[Finding]) -> str:
    views = case.frame.pass_roles
    order = sorted(passes_of(case, steps_of(findings)), key=lambda index: views[index].role not in SCENE)
    named = joined_parts([case.names[index] for index in order])
    more = [f"{len(named) - 2} more"] if len(named) > 3 else named[2:]
    return f"Nothing reads the results of {listed([*named[:2], *more])}"


UNREAD = whole_rule(_unread)


def _less_memory(case: Case, findings: Sequence[Finding]) -> str:
    largest = max(findings, key=lambda finding: finding.less_bytes)
    return f"{largest.title}; and {len(findings) - 1} more of the kind"


STORED = whole_rule(_less_memory)
"""Findings of memory: one line for each rule, with the sum."""

# ---- what is drawn -----------------------------------------------------------------------------------------


def _mesh_key(case: Case, finding: Finding) -> Key:
    meshes = _meshes(case, finding)
    return ("mesh", *meshes) if len(meshes) == 1 else ("mesh", finding.rule, len(meshes), *meshes[:3])


MESH = Cause(
    "one mesh",
    _mesh_key,
    lambda case, found: f"{_what(case, steps_of(found))}: too fine for its size on screen in {_passes(case, found)}",
)
"""A mesh, whatever passes draw it."""


def _fewer_draws(case: Case, findings: Sequence[Finding]) -> str:
    now, then = sum(f.draws_now for f in findings), sum(f.draws_together for f in findings)
    return f"{_what(case, steps_of(findings))}: {now:,} draws in {_passes(case, findings)} could be {then:,}"


def _copies_key(case: Case, finding: Finding) -> Key:
    meshes = _meshes(case, finding)
    return ("batch", *meshes) if len(meshes) == 1 else ("batch", finding.rule, len(meshes), *meshes[:3])


def _batch_key(case: Case, finding: Finding) -> Key:
    programs = sorted({int(case.frame.steps.program[s]) for s in finding.steps})
    return ("batch", "programs", *programs[:3], finding.rule == "small-batches")


COPIES = Cause("the same draws, submitted one by one in each pass", _copies_key, _fewer_draws)
DRAWS = Cause("the same draws, submitted one by one in each pass", _batch_key, _fewer_draws)
IMMEDIATE = Cause(
    "vertices given one by one",
    _of_one_rule,
    lambda _case, found: (
        f"{sum(f.draws_now for f in found):,} glBegin/glEnd pairs in {plural(len(found), 'run')}"
        f" could be {sum(f.draws_together for f in found):,}"
    ),
)

# ---- shaders, state and order ------------------------------------------------------------------------------


def _shader_title(_case: Case, findings: Sequence[Finding]) -> str:
    lines = sorted({line for f in findings for line in f.lines})
    return f"{findings[0].title} (lines {', '.join(map(str, lines[:6]))})" if lines else findings[0].title


SHADER = Cause("one program", lambda _case, f: ("shader", f.program, f.stage, f.rule), _shader_title)
STATE = Cause(
    "state that is set without looking at what it is",
    lambda _case, _finding: ("state",),
    lambda _case, found: f"{sum(f.calls for f in found):,} state calls change nothing that a draw uses",
)
ORDER = Cause(
    "the order of one pass",
    lambda case, finding: ("overdraw", *passes_of(case, finding.steps)[:1]),
    _more_of_it,
)
