"""Vertex attributes that are enabled and that no shader reads."""

from __future__ import annotations

from collections.abc import Iterator

from wendascope.advice.findings._registry import Case, Finding, finding
from wendascope.advice.rule import Effort, Rule, Side, Verify


@finding(Rule("unused-attributes", "Geometry", Side.GPU, Effort.ASSET, Verify.ADVICE))
def unused_attributes(case: Case) -> Iterator[Finding]:
    """Vertex attributes that are fed and that the program does not read."""
    frame = case.frame
    steps: dict[int, list[int]] = {}
    unused: dict[int, dict[int, int]] = {}
    for step, name in enumerate(frame.steps.program.tolist()):
        program = frame.programs.get(name)
        if frame.steps.kind_name(step) != "draw" or program is None or not program.linked:
            continue
        found = frame.uses.unread_inputs(step)
        if found:
            steps.setdefault(name, []).append(step)
            unused.setdefault(name, {}).update(found)
    for name, where in steps.items():
        size = sum(unused[name].values())
        vertices = sum(int(frame.steps.vertices[s]) for s in where)
        numbers = ", ".join(str(i) for i in sorted(unused[name]))
        yield Finding(
            id=f"unused-attributes-{name}",
            rule="unused-attributes",
            title=(
                f"{frame.program_name(name)} does not read attribute{'s' if len(unused[name]) > 1 else ''} {numbers},"
                f" enabled in {len(where):,} step{'s' if len(where) > 1 else ''}"
            ),
            why=(
                "An enabled array that no shader reads costs bandwidth where the driver fetches it, and room in the"
                " buffer in any case."
            ),
            steps=where,
            evidence={"bytes per vertex": size, "vertices": vertices, "bytes fetched at most": size * vertices},
            estimate_ms=None,
            how="",
            price="a vertex layout of its own for this program",
            conditions="no other program reads the same array in the same layout",
            refused="drivers skip what shaders do not read: there is nothing to measure here",
        )
