"""Where work of shaders could be done: for each vertex, at medium precision, without a branch, or behind one."""

from __future__ import annotations

from collections.abc import Iterator

from wendascope.advice.causes import SHADER
from wendascope.advice.findings._of_shaders import (
    LEAST_COST,
    LEAST_SHARE,
    fragment_stages,
    lines_that,
    shader_finding,
)
from wendascope.advice.findings._registry import Case, Finding, finding
from wendascope.advice.rule import Effort, Rule, Side, Verify
from wendascope.frame.remedy import Remedy
from wendascope.glsl.words import words_of

_PRECISION_SHARE = 0.2
_SPARED_SHARE = 0.1


@finding(Rule("per-vertex-work", "Shaders", Side.GPU, Effort.SHADER, Verify.ADVICE, cause=SHADER))
def per_vertex_work(case: Case) -> Iterator[Finding]:
    """Work of fragments that is linear in what comes from the vertices."""
    for program, stage in fragment_stages(case):
        assert stage.cost is not None
        lines = {line: cost for line, cost in (stage.flow.per_vertex if stage.flow else {}).items() if cost >= 2.0}
        spent = sum(lines.values())
        if spent < LEAST_COST or spent < LEAST_SHARE * stage.cost.total or (program.fragments or 0) <= program.vertices:
            continue
        yield shader_finding(
            case,
            program,
            stage,
            "per-vertex-work",
            sorted(lines),
            spent,
            f"{lines_that(sorted(lines), 'computed')} per fragment, linear in the inputs",
            "Sums of inputs and products with uniforms give the same result when computed per vertex and interpolated.",
            {"modelled cost": round(spent, 1), "vertices": program.vertices},
            "up to one more varying for each result",
            "the inputs are interpolated with perspective, as is the rule",
            None,
        )


@finding(
    Rule(
        "medium-precision",
        "Shaders",
        Side.GPU,
        Effort.SETTING,
        risk="precision: look at it on the devices",
        cause=SHADER,
    )
)
def medium_precision(case: Case) -> Iterator[Finding]:
    """On OpenGL ES, where precision can be chosen."""
    if not case.frame.context.es:
        return
    for program, stage in fragment_stages(case):
        assert stage.cost is not None
        if "highp" not in words_of(stage.text):
            continue
        lines = stage.flow.medium if stage.flow else {}
        spent = sum(lines.values())
        if spent < LEAST_COST or spent < _PRECISION_SHARE * stage.cost.total:
            continue
        worst = sorted(sorted(lines, key=lambda line: -lines[line])[:8])
        yield shader_finding(
            case,
            program,
            stage,
            "medium-precision",
            worst,
            spent / 2,
            f"{lines_that(worst, 'work')} at highp where mediump suffices",
            "No texture coordinate, condition, angle or depth depends on it. Many mobile GPUs run medium precision at"
            " twice the rate, with half the registers.",
            {"modelled cost": round(spent, 1)},
            "ten bits beyond the point, and values up to 65,504",
            "the estimate is for hardware of twice the rate; drivers that compute medium as high precision show no"
            " difference. The proof lowers the whole shader",
            Remedy("medium-precision", program.steps, program=program.program),
        )


@finding(Rule("small-branch", "Shaders", Side.GPU, Effort.SHADER, Verify.ADVICE, cause=SHADER))
def small_branches(case: Case) -> Iterator[Finding]:
    """Branches over so little work that both sides cost less."""
    for program, stage in fragment_stages(case):
        found = stage.flow.small_branches if stage.flow else []
        lines = sorted({b.line for b in found if b.line})
        if not lines:
            continue
        yield shader_finding(
            case,
            program,
            stage,
            "small-branch",
            lines,
            0.0,
            f"{lines_that(lines, 'branch')} over a few operations",
            "Neighbouring fragments that go different ways run both sides. A comparison and mix(), or a product with"
            " step(), does it without a branch.",
            {"modelled cost of both sides": round(sum(b.cost for b in found), 1)},
            "none",
            "compilers often do it themselves: measure",
            None,
        )


@finding(Rule("spared-side", "Shaders", Side.GPU, Effort.SHADER, Verify.ADVICE, cause=SHADER))
def spared_sides(case: Case) -> Iterator[Finding]:
    """Sides of branches that most fragments do not take, and what they would fetch."""
    for program, stage in fragment_stages(case):
        assert stage.cost is not None
        for number, side in enumerate(stage.flow.spared if stage.flow else []):
            if side.cost < _SPARED_SHARE * stage.cost.total:
                continue
            yield shader_finding(
                case,
                program,
                stage,
                "spared-side",
                [side.line],
                side.cost / 2,
                f"{lines_that([side.line], 'choose')} between results that are both computed",
                "Both sides are computed and one is discarded. Where neighbouring fragments mostly agree, a branch"
                " skips it.",
                {
                    "modelled cost of the more expensive side": round(side.cost, 1),
                    "its lines": ", ".join(map(str, side.lines[:8])),
                },
                "a branch",
                "the estimate is for half of the fragments; texture samples with implicit levels must stay outside"
                " the branch",
                None,
                number=number,
            )
