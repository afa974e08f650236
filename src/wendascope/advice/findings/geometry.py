"""Meshes that do not fit their place on screen."""

from __future__ import annotations

import math
from collections.abc import Iterator

from wendascope.advice.causes import FACING_AWAY, MESH, OUTSIDE
from wendascope.advice.findings._registry import Case, Facts, Finding, finding
from wendascope.advice.rule import Effort, Rule, Side, Verify
from wendascope.analysis.guidelines import guidelines
from wendascope.frame.remedy import Remedy
from wendascope.texts import plural, verb
from wendascope.texts import share as per_cent

_LEAST_TRIANGLES = 200
_REPEATED = 0.05
"""Of a step's triangles, without area or there twice: less is not worth a word."""
_SIMPLEST = 12
"""Triangles of a box: a mesh is not asked to be simpler."""


def _outside_title(where: str, count: int) -> str:
    return f"{plural(count, 'step')} of {where} {verb(count, 'lies', 'lie')} wholly outside the view"


def _away_title(where: str, count: int) -> str:
    return f"{where}: every triangle of {plural(count, 'step')} faces away"


@finding(Rule("outside-view", "Geometry", Side.GPU, Effort.CODE, cause=OUTSIDE, leaves_out=True, title=_outside_title))
def outside_view(case: Case) -> Iterator[Finding]:
    """Draws none of whose triangles lie in the view."""
    for index, name in enumerate(case.names):
        steps = [s for s, r in case.rows(index) if r.triangles > 0 and r.outside == r.triangles]
        if steps:
            yield Finding(
                id=f"outside-view-{index}",
                rule="outside-view",
                title=_outside_title(name, len(steps)),
                why="Every triangle is outside one side of the view volume, or cut away by it.",
                steps=steps,
                evidence={
                    "steps": len(steps),
                    "triangles": _triangles(case, steps),
                    "vertices run": sum(max(case.drawn.steps[s].transformed, 0) for s in steps),
                },
                estimate_ms=case.time_of(steps),
                how="share of the pass time that these draws take",
                price="a test of each object's bounds against the view on the CPU",
                conditions="holds for this view",
                remedy=Remedy("drop-steps", steps),
                facts=Facts(name),
            )


@finding(Rule("facing-away", "Geometry", Side.GPU, Effort.CODE, cause=FACING_AWAY, leaves_out=True, title=_away_title))
def facing_away(case: Case) -> Iterator[Finding]:
    """Draws all of whose triangles face away or cover nothing."""
    for index, name in enumerate(case.names):
        steps = [
            s for s, r in case.rows(index) if r.triangles > 0 and r.away and r.away + r.outside + r.empty == r.triangles
        ]
        if steps:
            yield Finding(
                id=f"facing-away-{index}",
                rule="facing-away",
                title=_away_title(name, len(steps)),
                why="Face culling removes all that these steps draw.",
                steps=steps,
                evidence={"steps": len(steps), "triangles": _triangles(case, steps)},
                estimate_ms=case.time_of(steps),
                how="share of the pass time that these draws take",
                price="a test of facing on the CPU",
                conditions="holds for this view",
                remedy=Remedy("drop-steps", steps),
                facts=Facts(name),
            )


_HALF_PIXEL = 0.5


@finding(Rule("too-fine", "Geometry", Side.GPU, Effort.ASSET, risk="shapes change a little: look at it", cause=MESH))
def too_fine(case: Case) -> Iterator[Finding]:
    """Steps of one pass with one program and one triangle count are taken together: they are one mesh, drawn many
    times.
    """
    frame = case.frame
    for index, name in enumerate(case.names):
        meshes: dict[tuple[int, int], list[int]] = {}
        for step, row in case.rows(index):
            if (
                row.drawn > 0
                and row.no_sample > guidelines().geometry.lost_to_size * row.drawn
                and row.partial + row.no_sample > guidelines().geometry.partial * row.drawn
            ):
                meshes.setdefault((int(frame.steps.program[step]), row.triangles), []).append(step)
        for (program, triangles), steps in meshes.items():
            rows = [case.drawn.steps[s] for s in steps]
            drawn, pixels = sum(r.drawn for r in rows), sum(r.covered for r in rows)
            if (
                drawn < _LEAST_TRIANGLES
                or triangles <= _SIMPLEST
                or pixels >= drawn * guidelines().geometry.pixels_a_triangle / 4
            ):
                continue
            if pixels == 0:
                yield _nothing(case, index, name, steps, triangles, program)
                continue
            enough = max(-(-pixels // (guidelines().geometry.pixels_a_triangle * len(steps))), _SIMPLEST)
            if 2 * enough > triangles:
                continue
            share = 1 - enough / triangles
            across = math.sqrt(4 / math.pi * max(r.covered for r in rows))  # of a disc of as many pixels
            vertex_ms = {s: case.drawn.steps[s].vertex_ms for s in steps}
            lost = sum(r.no_sample for r in rows)
            yield Finding(
                id=f"too-fine-{index}-{steps[0]}",
                rule="too-fine",
                title=(
                    f"{name}: {len(steps):,} x {triangles:,} triangles cover {pixels / len(steps):,.0f} pixels each;"
                    f" {enough:,} each by the guideline"
                ),
                why=(
                    f"{per_cent(lost / drawn)} of the triangles cover no sample and"
                    f" {per_cent(sum(r.partial for r in rows) / drawn)} cover no whole pixel (guidelines"
                    f" {per_cent(guidelines().geometry.lost_to_size)} and {per_cent(guidelines().geometry.partial)})."
                ),
                steps=steps,
                evidence={
                    "triangles": triangles * len(steps),
                    "covering no sample": lost,
                    "covering 1 to 4 samples": sum(r.few for r in rows),
                    "samples covered": pixels,
                    "vertices run": sum(max(r.transformed, 0) for r in rows),
                    "drawn by": frame.program_name(program),
                },
                estimate_ms=(
                    None
                    if any(v is None for v in vertex_ms.values())
                    else sum(v or 0.0 for v in vertex_ms.values()) * share
                ),
                how="the time of the vertex stages alone (rasterisation off), times the share of triangles removed",
                price="a simpler version of the mesh for far views; the proof keeps its shape within half a pixel here",
                conditions=f"{guidelines().geometry.pixels_a_triangle} pixels per triangle are enough for its shape",
                remedy=Remedy("simplify-mesh", steps, values={"triangles": enough, "error": _HALF_PIXEL / across}),
            )


def _nothing(case: Case, index: int, name: str, steps: list[int], triangles: int, program: int) -> Finding:
    """A mesh of which no triangle touches a sample: none of it is needed in this view."""
    rows = [case.drawn.steps[s] for s in steps]
    return Finding(
        id=f"too-fine-{index}-{steps[0]}",
        rule="too-fine",
        title=f"{name}: {len(steps):,} x {triangles:,} triangles cover no pixel at all",
        why="Every triangle is so small, or so far away, that no sample lies in it.",
        steps=steps,
        evidence={
            "triangles": triangles * len(steps),
            "samples covered": 0,
            "vertices run": sum(max(r.transformed, 0) for r in rows),
            "drawn by": case.frame.program_name(program),
        },
        estimate_ms=case.time_of(steps),
        how="share of the pass time that these draws take",
        price="a test of each object's size on screen on the CPU",
        conditions="holds for this view",
        remedy=Remedy("drop-steps", steps),
    )


@finding(Rule("small-visible-part", "Geometry", Side.GPU, Effort.ASSET, Verify.ADVICE, cause=MESH))
def small_part(case: Case) -> Iterator[Finding]:
    """Large meshes of which a small part is seen."""
    for index, name in enumerate(case.names):
        for step, row in case.rows(index):
            if (
                row.triangles >= guidelines().geometry.large_mesh
                and row.outside < row.triangles
                and row.triangles - row.outside < guidelines().geometry.small_part * row.triangles
            ):
                inside = row.triangles - row.outside
                yield Finding(
                    id=f"small-visible-part-{step}",
                    rule="small-visible-part",
                    title=(
                        f"{name}: only {inside:,} of {row.triangles:,} triangles of step {step:,} lie inside the view"
                    ),
                    why="One large mesh is drawn whole for a small part of it.",
                    steps=[step],
                    evidence={
                        "triangles": row.triangles,
                        "outside the view": row.outside,
                        "vertices run": row.transformed,
                    },
                    estimate_ms=None if row.vertex_ms is None else row.vertex_ms * row.outside / row.triangles,
                    how="the time of its vertex stages alone, by the share outside",
                    price="more draws, because the mesh is split into parts",
                    conditions="the parts can be left out one by one",
                    refused="how to split the mesh is not in the frame",
                )


@finding(Rule("degenerate-triangles", "Geometry", Side.GPU, Effort.ASSET, cause=MESH))
def degenerate(case: Case) -> Iterator[Finding]:
    """Meshes with triangles that have no area or come twice."""
    for index, name in enumerate(case.names):
        rows = {s: r for s, r in case.rows(index) if r.degenerate + r.duplicates >= max(_REPEATED * r.triangles, 10)}
        wasted = sum(r.degenerate + r.duplicates for r in rows.values())
        if not rows:
            continue
        yield Finding(
            id=f"degenerate-triangles-{index}",
            rule="degenerate-triangles",
            title=f"{name}: {wasted:,} triangles are degenerate or duplicated",
            why=(
                "Triangles with two corners in one place draw nothing. A triangle that one draw holds twice is drawn"
                " once too often."
            ),
            steps=sorted(rows),
            evidence={
                "degenerate": sum(r.degenerate for r in rows.values()),
                "duplicated": sum(r.duplicates for r in rows.values()),
                "triangles": _triangles(case, list(rows)),
            },
            estimate_ms=None,
            how="",
            price="cleaning the meshes when they are built",
            conditions="strips joined by triangles without area need them, or a restart index",
            remedy=Remedy("clean-mesh", sorted(rows)),
        )


def _triangles(case: Case, steps: list[int]) -> int:
    return sum(max(case.drawn.steps[s].triangles, 0) for s in steps)
