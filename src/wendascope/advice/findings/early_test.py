"""Steps whose fragments are shaded first and rejected by depth afterwards."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Any

from wendascope.advice.findings._registry import Case, Finding, finding
from wendascope.advice.rule import Effort, Rule, Side, Verify
from wendascope.glsl.preprocessor import compiled_text
from wendascope.glsl.stages import Stage
from wendascope.glsl.words import fragment_habits

_LEAST = 1000
_LATE = re.compile(r"\b(discard|gl_FragDepth\w*|imageStore|imageAtomic\w*|atomic\w+)\b")


@finding(Rule("late-depth-test", "Overdraw", Side.GPU, Effort.SHADER, Verify.TIMED))
def late_depth_tests(case: Case) -> Iterator[Finding]:
    """Draws whose fragments are shaded before depth rejects them."""
    for index, name in enumerate(case.names):
        late = {step: row for step, row in case.rows(index) if not row.early and row.depth_test and row.rejected > 0}
        rejected = sum(r.rejected for r in late.values())
        if rejected < _LEAST:
            continue
        yield Finding(
            id=f"late-depth-test-{index}",
            rule="late-depth-test",
            title=f"{name}: {rejected:,} fragments are shaded and then rejected by depth",
            why=f"Early depth testing is off because the shader uses {_reasons(case, list(late))}.",
            steps=sorted(late),
            evidence={
                "fragments rejected after shading": rejected,
                "fragments that pass": sum(max(r.fragments, 0) for r in late.values()),
                "steps": len(late),
            },
            estimate_ms=case.weighted({s: r.rejected / (r.rejected + max(r.fragments, 0)) for s, r in late.items()}),
            how="each step's part of the pass's time, by its share of rejected fragments",
            price="a second shader: solid parts without discard, or a depth-only pass for what is cut out",
            conditions="hardware that tests early only where it may; some test twice",
            refused="which parts are solid is not in the frame: splitting the mesh or the shader is new work",
            **_place(case, list(late)),
        )


def _place(case: Case, steps: list[int]) -> dict[str, Any]:
    """Program, stage and lines of the first shader that keeps the test from coming first."""
    for program, text in fragment_texts(case, steps):
        lines = [k for k, line in enumerate(text.splitlines(), 1) if _LATE.search(line.split("//")[0])]
        if lines:
            return {"program": program, "stage": Stage.FRAGMENT, "lines": lines}
    return {}


def _reasons(case: Case, steps: list[int]) -> str:
    found = [reason for _, text in fragment_texts(case, steps) for reason in fragment_habits(text).reasons]
    return ", ".join(dict.fromkeys(found)) or "an alpha test or coverage by alpha"


def fragment_texts(case: Case, steps: list[int]) -> Iterator[tuple[int, str]]:
    """(program, what of its fragment shader is compiled) of all programs that steps draw with."""
    for name in sorted({int(case.frame.steps.program[s]) for s in steps}):
        program = case.frame.programs.get(name)
        for shader in program.shaders if program else []:
            if shader.stage == Stage.FRAGMENT:
                yield name, compiled_text(shader.source, case.frame.context.dialect)
