"""Answers in one sentence, with the numbers that make them."""

from __future__ import annotations

from wendascope.analysis.geometry.drawn import Drawn
from wendascope.analysis.guidelines import guidelines
from wendascope.texts import large, share


def overdraw_share(drawn: Drawn) -> float:
    """Share of all fragments that is wasted."""
    return sum(p.wasted for p in drawn.passes) / max(sum(p.fragments for p in drawn.passes), 1)


def overdraw_answer(drawn: Drawn, names: list[str]) -> tuple[str, str]:
    """(answer, evidence) to what is drawn that nobody sees. It speaks of waste: layers that blend are no fault."""
    fragments = sum(p.fragments for p in drawn.passes)
    covered = sum(p.fragments - p.survivors for p in drawn.passes)
    idle = sum(p.idle for p in drawn.passes)
    if fragments == 0:
        return "No fragments were counted.", ""
    if covered + idle == 0:
        return (
            f"No wasted fragments among {large(fragments)}: no opaque overdraw, no blending without effect.",
            "",
        )
    worst = max(drawn.passes, key=lambda p: p.wasted)
    wasted, where = share((covered + idle) / fragments), names[worst.index]
    answer = f"{wasted} of all fragments are wasted, the largest part in {where}."
    parts = []
    if covered:
        parts.append(f"{large(covered)} are covered by later opaque draws")
    if idle:
        parts.append(f"{large(idle)} are blended without changing a colour")
    hidden = sum(1 for s in drawn.steps if s.fragments == 0 and s.covered > 0)
    tail = f" {hidden:,} draws have no visible fragment." if hidden else ""
    most = f"{share(worst.wasted / (covered + idle))} of the waste is in {where}."
    return answer, f"Of {large(fragments)}, {' and '.join(parts)}. {most}{tail}"


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
        return "No triangle positions are known.", ""
    lost, partial, outside = (sum(getattr(s, name) for s in known) for name in ("no_sample", "partial", "outside"))
    culled = sum(s.away for s in known)
    too_small, over = lost / max(seen, 1), partial / max(seen, 1)
    words = "above" if too_small > guidelines().geometry.lost_to_size else "within"
    answer = f"{share(too_small)} of the triangles are too small to cover a sample: {words} the guideline."
    run = sum(max(s.transformed, 0) for s in known)
    evidence = (
        f"The guideline is {share(guidelines().geometry.lost_to_size)} of {large(seen)}."
        f" {share(over)} cover no whole pixel (guideline {share(guidelines().geometry.partial)}). Of {large(total)}"
        f" submitted, {large(outside)} lie outside the view and {large(culled)} are culled. {run / total:.2f}"
        " vertices are shaded per triangle (modelled: a first-in-first-out cache of 32 vertices)."
    )
    return answer, evidence
