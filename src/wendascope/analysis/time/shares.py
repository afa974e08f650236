"""What the answers of pages are parts of: fragments, triangles, state calls, draws, time by program."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from wendascope.analysis.draws.structure import Structure
from wendascope.analysis.geometry.drawn import Drawn
from wendascope.analysis.shaders.study import ProgramStudy
from wendascope.frame.call_use import OVERWRITTEN, REPEATS
from wendascope.texts import large, plural, share, three_digits

_MOST_PROGRAMS = 6


@dataclass(frozen=True)
class Part:
    """A part of a whole."""

    text: str
    amount: float
    marked: bool = False
    """Whether it is what the page is about: what is wasted, or what brings something."""


def _of(amount: float, whole: float, what: str, marked: bool = False) -> Part:
    return Part(f"{share(amount / whole)} {what} ({large(amount)})" if whole else what, amount, marked)


def fragment_parts(drawn: Drawn) -> list[Part]:
    """Fragments that are seen, covered later, blended without effect."""
    whole = sum(p.fragments for p in drawn.passes)
    covered = sum(p.fragments - p.survivors for p in drawn.passes)
    idle = sum(p.idle for p in drawn.passes)
    return [
        _of(whole - covered - idle, whole, "visible"),
        _of(covered, whole, "covered later", True),
        _of(idle, whole, "blended without effect", True),
    ]


def triangle_parts(drawn: Drawn) -> list[Part]:
    """Triangles that cover whole pixels, a part of one, or nothing, and for what reason."""
    known = [s for s in drawn.steps if s.triangles > 0]
    whole, seen = sum(s.triangles for s in known), sum(s.drawn for s in known)
    outside, away, lost, partial = (
        sum(getattr(s, n) for s in known) for n in ("outside", "away", "no_sample", "partial")
    )
    return [
        _of(seen - lost - partial, whole, "cover whole pixels"),
        _of(partial, whole, "cover parts of pixels", True),
        _of(lost, whole, "cover no sample", True),
        _of(outside, whole, "outside the view", True),
        _of(away, whole, "culled"),
        _of(whole - outside - away - seen, whole, "without area", True),
    ]


def state_parts(found: Structure) -> list[Part]:
    """State calls that are needed, repeat a value, are overwritten unused."""
    whole = len(found.setting)
    repeats, over = int((found.use.use == REPEATS).sum()), int((found.use.use == OVERWRITTEN).sum())
    return [
        _of(whole - repeats - over, whole, "needed"),
        _of(repeats, whole, "repeat the current value", True),
        _of(over, whole, "overwritten unused", True),
    ]


def draw_parts(found: Structure) -> list[Part]:
    """Draws that stay by the plan, and those that go into others."""
    now, saved = found.batches.draws_now(), found.batches.saved
    return [
        Part(f"{plural(now - saved, 'draw')} by the plan", now - saved),
        Part(f"{plural(saved, 'draw')} could be part of others", saved, True),
    ]


def program_parts(programs: Sequence[ProgramStudy]) -> list[Part]:
    """Time of each program, the most expensive first; those that take little are one part."""
    timed = [p for p in programs if p.ms]
    parts = [Part(f"{p.label}: {three_digits(p.ms or 0.0)} ms", p.ms or 0.0) for p in timed[:_MOST_PROGRAMS]]
    rest = sum(p.ms or 0.0 for p in timed[_MOST_PROGRAMS:])
    more = len(timed) - _MOST_PROGRAMS
    return [*parts, Part(f"{plural(more, 'other program')}: {three_digits(rest)} ms", rest)] if more > 0 else parts
