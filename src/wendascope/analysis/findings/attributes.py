"""Vertex attributes that are enabled and that no shader reads."""

from __future__ import annotations

from collections.abc import Iterator

from wendascope.analysis.findings._registry import Case, Finding, finding
from wendascope.frame.vertex_inputs import vertex_inputs


@finding("unused-attributes")
def unused_attributes(case: Case) -> Iterator[Finding]:
    frame = case.frame
    found: dict[tuple[int, int], list[int]] = {}
    shape: dict[tuple[int, int], int] = {}
    for step in range(len(frame.steps)):
        program = frame.objects.program(int(frame.steps.program[step]))
        if frame.steps.kind_name(step) != "draw" or program is None or not program.linked:
            continue
        for row in vertex_inputs(frame, step):
            if not row.name:
                key = (program.name, row.index)
                found.setdefault(key, []).append(step)
                shape[key] = row.bytes
    for (program_name, index), steps in found.items():
        vertices = sum(int(frame.steps.vertices[s]) for s in steps)
        yield Finding(
            id=f"unused-attributes-{program_name}-{index}", rule="unused-attributes", page="Geometry",
            title=f"Attribute {index} is fetched by {len(steps):,} step{'' if len(steps) == 1 else 's'} with program {program_name}, which does not read it",
            why="An enabled array that no shader reads costs bandwidth where the driver fetches it, and room in the buffer in any case.",
            steps=steps, evidence={"bytes a vertex": shape[program_name, index], "vertices": vertices, "bytes fetched at most": shape[program_name, index] * vertices},
            estimate_ms=None, how="", price="a vertex layout of its own for this program", conditions="no other program reads the same array in the same layout",
            refused="drivers skip what shaders do not read: there is nothing to measure here",
        )  # fmt: skip
