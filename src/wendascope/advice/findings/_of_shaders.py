"""What findings about shaders share."""

from __future__ import annotations

from collections.abc import Iterator

from wendascope.advice.findings._registry import Case, Finding
from wendascope.analysis.shaders.study import ProgramStudy, StageStudy
from wendascope.frame.remedy import Remedy
from wendascope.glsl.stages import Stage

LEAST_SHARE = 0.02
"""Of a shader's cost: less is not worth a change."""
LEAST_COST = 8.0
_MEASURE = (
    "the program's measured time by the share of its modelled cost; costs are modelled, counts and times measured"
)


def fragment_stages(case: Case) -> Iterator[tuple[ProgramStudy, StageStudy]]:
    for program in case.shaders:
        stage = program.stage(Stage.FRAGMENT)
        if stage is not None and stage.cost is not None and stage.cost.total > 0:
            yield program, stage


def shader_finding(
    case: Case,
    program: ProgramStudy,
    stage: StageStudy,
    rule: str,
    lines: list[int],
    saved: float,
    title: str,
    why: str,
    evidence: dict[str, int | float | str],
    price: str,
    conditions: str,
    remedy: Remedy | None,
    whole: float | None = None,
    refused: str = "",
    number: int = 0,
) -> Finding:
    """`number` tells findings of one rule on one line apart."""
    assert stage.cost is not None
    total = whole or stage.cost.total
    estimate = None if program.ms is None else program.ms * min(saved / total, 1.0)
    return Finding(
        id=f"{rule}-{program.program}"
        + (f"-{lines[0]}" if rule in ("unused-feature", "long-loop", "unreached-loop", "spared-side") else "")
        + (f"-{number + 1}" if number else ""),
        rule=rule,
        title=f"{program.label}: {title}",
        why=why,
        steps=program.steps,
        evidence={
            "fragments": program.fragments or 0,
            "modelled cost of a fragment": round(total, 1),
            **evidence,
            **_driver_lines(stage, lines),
        },
        estimate_ms=estimate,
        how=_MEASURE,
        price=price,
        conditions=conditions or "none",
        remedy=remedy,
        refused=refused or ("" if remedy else "the change is the programmer's: try it by editing the shader"),
        program=program.program,
        stage=stage.stage,
        lines=lines,
    )


def _driver_lines(stage: StageStudy, lines: list[int]) -> dict[str, int | float | str]:
    """Lines as messages of the driver name them, where `#line` renumbers any."""
    if stage.code is None or not stage.code.renumbered or not lines:
        return {}
    return {"lines as the driver names them": ", ".join(stage.code.driver_line(line) for line in lines[:8])}


def lines_that(lines: list[int], verb: str) -> str:
    """Lines as the subject of a sentence, with its verb."""
    if len(lines) == 1 and verb.endswith("ed"):
        return f"line {lines[0]} {verb}"
    if len(lines) == 1:
        return f"line {lines[0]} {verb}{'es' if verb.endswith(('ch', 'sh', 's', 'x')) else 's'}"
    return "lines " + ", ".join(map(str, lines[:6])) + (" ..." if len(lines) > 6 else "") + f" {verb}"
