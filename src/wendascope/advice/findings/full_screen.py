"""Full-screen steps that would do at half size: what they read is half as large already, or they blur."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from wendascope.advice.findings._registry import Case, Finding, finding
from wendascope.advice.rule import Effort, Rule, Side
from wendascope.analysis.guidelines import guidelines
from wendascope.frame.remedy import Remedy
from wendascope.glsl.stages import Stage

_COVERS = 0.95
_MANY_FETCHES = 5
_LEFT = 0.25
"""Of the fragments, at half the width and height."""
_WRITTEN = 20.0
"""What a fragment costs beside its shader, in additions: rasterisation, tests and blending."""


@finding(Rule("fine-full-screen", "Shaders", Side.GPU, Effort.SETTING, risk="the picture changes a little: look at it"))
def fine_full_screen(case: Case) -> Iterator[Finding]:
    """Full-screen steps whose picture would hardly change at half the size."""
    stages = {p.program: p.stage(Stage.FRAGMENT) for p in case.shaders}
    width, height = case.frame.size
    for step, row in enumerate(case.drawn.steps):
        target = case.frame.passes.targets[int(case.frame.passes.of_step[step])]
        area = target.width * target.height
        if (
            case.frame.steps.kind_name(step) != "draw"
            or row.fragments < _COVERS * area
            or int(case.frame.steps.triangles[step]) > 2
        ):
            continue
        if area == 0 or area < width * height / 2:
            continue  # small already
        if row.depth_test and not (row.one_depth and row.depth is not None):
            continue  # a surface of the scene that happens to fill the screen
        stage = stages.get(int(case.frame.steps.program[step]))
        if stage is None or stage.cost is None:
            continue
        sizes = _sizes_read(case, step)
        small = bool(sizes) and max(sizes) <= area / 4
        if not small and not (row.kind == "blended" and stage.cost.total > 0) and stage.cost.fetches < _MANY_FETCHES:
            continue
        why = (
            "Everything that it reads is at most half as wide and high as its target."
            if small
            else (
                "It samples many neighbours: the result is smooth, and smooth pictures lose little at half size."
                if stage.cost.fetches >= _MANY_FETCHES
                else "It is blended over the whole target: drawn small and then laid over once, it costs a quarter."
            )
        )
        saved = _saved_share(stage.cost.total)
        if saved <= 0:
            continue  # scaling the small picture up costs as much
        ms = case.time_of([step])
        name = case.names[int(case.frame.passes.of_step[step])]
        yield Finding(
            id=f"fine-full-screen-{step}",
            rule="fine-full-screen",
            title=(
                f"{name}: step {step} covers all of {target.width} x {target.height}; at half size it would run 75 %"
                " fewer fragments"
            ),
            why=why,
            steps=[step],
            evidence={
                "fragments now": row.fragments,
                "fragments at half size": (target.width // 2) * (target.height // 2),
                "at a quarter": (target.width // 4) * (target.height // 4),
                "texture samples per fragment": stage.cost.fetches,
            },
            estimate_ms=None if ms is None else ms * saved,
            how="the step's measured time by the fragments saved, less one texture sample per pixel for scaling up",
            price="fine detail; one more target, and a texture sample for scaling up",
            conditions="hard edges must not matter",
            remedy=Remedy(
                "half-size", [step], divide=2, values={"depth": row.depth} if row.depth_test and row.depth else {}
            ),
            program=stage.program,
            stage=stage.stage,
        )


def _saved_share(cost: float) -> float:
    """Of a step's time: a quarter of the fragments is left, and the small picture is sampled once for each pixel."""
    table = guidelines().operations
    sample = table.fetch * table.linear + _WRITTEN
    return 1 - _LEFT - sample / (cost + _WRITTEN)


def _sizes_read(case: Case, step: int) -> list[int]:
    """Pixels of every texture that a step samples."""
    program = int(case.frame.steps.program[step])
    uses = [use for use in case.sharing.samplers if use.program == program]
    names = [int(use.textures[np.searchsorted(use.steps, step)]) for use in uses]
    found = [case.frame.textures[name] for name in names if name in case.frame.textures]
    return [texture.width * texture.height for texture in found if texture.width]
