"""Full-screen steps that would do at half size: what they read is half as large already, or they blur."""

from __future__ import annotations

from collections.abc import Iterator

from wendascope.analysis.findings._registry import Case, Finding, Remedy, finding
from wendascope.frame.inputs import texture_inputs
from wendascope.registry import GL

_COVERS = 0.95
_MANY_FETCHES = 5


@finding("fine-full-screen")
def fine_full_screen(case: Case) -> Iterator[Finding]:
    stages = {p.program: p.stage(GL.FRAGMENT_SHADER) for p in case.shaders}
    window = case.frame.default_framebuffer
    for step, row in enumerate(case.drawn.steps):
        target = case.frame.passes.targets[int(case.frame.passes.of_step[step])]
        area = target.width * target.height
        if case.frame.steps.kind_name(step) != "draw" or row.fragments < _COVERS * area or int(case.frame.steps.triangles[step]) > 2:
            continue
        if area == 0 or area < window.width * window.height / 2:
            continue  # small already
        stage = stages.get(int(case.frame.steps.program[step]))
        if stage is None or stage.cost is None:
            continue
        sizes = []
        for item in texture_inputs(case.frame, step):
            record = case.frame.objects.texture(item.texture)
            if record is not None and record.images:
                sizes.append(record.width * record.height)
        small = bool(sizes) and max(sizes) <= area / 4
        if not small and not (row.kind == "blended" and stage.cost.total > 0) and stage.cost.fetches < _MANY_FETCHES:
            continue
        why = (
            "Everything that it reads is at most half as wide and high as its target." if small
            else "It looks up many neighbours: what it makes is smooth, and smooth pictures lose little at half size." if stage.cost.fetches >= _MANY_FETCHES
            else "It is blended over the whole target: drawn small and then laid over once, it costs a quarter."
        )  # fmt: skip
        ms = case.time_of([step])
        name = case.names[int(case.frame.passes.of_step[step])]
        yield Finding(
            id=f"fine-full-screen-{step}", rule="fine-full-screen", page="Shaders",
            title=f"{name}: step {step} covers all of {target.width} x {target.height}; at half size it would run 75% fewer fragments", why=why, steps=[step],
            evidence={"fragments now": row.fragments, "fragments at half size": (target.width // 2) * (target.height // 2), "at a quarter": (target.width // 4) * (target.height // 4), "look-ups a fragment": stage.cost.fetches},
            estimate_ms=None if ms is None else ms * 0.75, how="three quarters of the step's measured time; scaling up again is not counted",
            price="fine detail; one more target, and a look-up for scaling up", conditions="hard edges must not matter",
            remedy=Remedy("half-size", [step], divide=2), program=stage.program, stage=stage.stage,
        )  # fmt: skip
