"""Answers in one sentence, with the numbers that make them."""

from __future__ import annotations

from wendascope.analysis.drawn import Drawn
from wendascope.analysis.yardsticks import yardsticks


def counted(number: float) -> str:
    """A large count as it is said: 10.2 million, 48,300."""
    return f"{number / 1e6:.1f} million" if number >= 1e6 else f"{number:,.0f}"


def overdraw_share(drawn: Drawn) -> float:
    """Share of all fragments that was for nothing."""
    return sum(p.wasted for p in drawn.passes) / max(sum(p.fragments for p in drawn.passes), 1)


def overdraw_answer(drawn: Drawn, names: list[str]) -> tuple[str, str]:
    """(answer, evidence) to what is drawn that nobody sees. It speaks of waste: layers that blend are no fault."""
    fragments = sum(p.fragments for p in drawn.passes)
    covered = sum(p.fragments - p.survivors for p in drawn.passes)
    idle = sum(p.idle for p in drawn.passes)
    if fragments == 0:
        return "No fragment was counted.", ""
    if covered + idle == 0:
        return f"None of {counted(fragments)} fragments is wasted: nothing is covered later or blended without a change.", ""
    worst = max(drawn.passes, key=lambda p: p.wasted)
    answer = f"{(covered + idle) / fragments:.0%} of {counted(fragments)} fragments are for nothing, {worst.wasted / (covered + idle):.0%} of them in {names[worst.index]}."
    parts = []
    if covered:
        parts.append(f"{counted(covered)} are covered by later opaque steps")
    if idle:
        parts.append(f"{counted(idle)} blend without changing a colour")
    hidden = sum(1 for s in drawn.steps if s.fragments == 0 and s.covered > 0)
    tail = f" {hidden:,} steps have no visible part at all." if hidden else ""
    return answer, " and ".join(parts)[:1].upper() + " and ".join(parts)[1:] + "." + tail


def lost_to_size(drawn: Drawn) -> float:
    """Share of the triangles that reach rasterisation and touch no sample."""
    known = [s for s in drawn.steps if s.triangles > 0]
    return sum(s.no_sample for s in known) / max(sum(s.drawn for s in known), 1)


def geometry_answer(drawn: Drawn) -> tuple[str, str]:
    """(answer, evidence) to whether the geometry is right-sized for its place on screen."""
    known = [s for s in drawn.steps if s.triangles > 0]
    total = sum(s.triangles for s in known)
    seen = sum(s.drawn for s in known)
    if total == 0:
        return "No triangle's position is known.", ""
    lost, partial, outside = (sum(getattr(s, name) for s in known) for name in ("no_sample", "partial", "outside"))
    culled = sum(s.away for s in known)
    too_small, over = lost / max(seen, 1), partial / max(seen, 1)
    words = "above" if too_small > yardsticks().geometry.lost_to_size else "within"
    answer = f"{too_small:.0%} of {counted(seen)} triangles are too small to touch a sample ({words} the yardstick of {yardsticks().geometry.lost_to_size:.0%})."
    run = sum(max(s.transformed, 0) for s in known)
    evidence = (
        f"{over:.0%} fill no pixel wholly (yardstick {yardsticks().geometry.partial:.0%}). Of {counted(total)} submitted, {counted(outside)} lie outside the view and {counted(culled)} are culled. "
        f"{run / total:.2f} vertices run for each triangle, by the model of a cache of 32 vertices, first in first out."
    )
    return answer, evidence
