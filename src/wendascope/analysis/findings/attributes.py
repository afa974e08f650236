"""Vertex attributes that are enabled and that no shader reads."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from wendascope.analysis.findings._registry import Case, Finding, finding
from wendascope.frame.describe import program_name
from wendascope.frame.vertex_inputs import vertex_inputs


@finding("unused-attributes")
def unused_attributes(case: Case) -> Iterator[Finding]:
    frame = case.frame
    steps: dict[int, list[int]] = {}
    unused: dict[int, dict[int, int]] = {}
    arrays = frame.history.column("vertex_array", frame.steps.call)
    epochs = np.searchsorted(frame.history.change_calls("attribute_format", "attribute_enabled", "attribute_divisor"), frame.steps.call)
    known: dict[tuple[int, int, int], dict[int, int]] = {}
    for step, name in enumerate(frame.steps.program.tolist()):
        program = frame.objects.program(name)
        if frame.steps.kind_name(step) != "draw" or program is None or not program.linked:
            continue
        key = (name, int(arrays[step]), int(epochs[step]))  # many steps fetch the same
        if key not in known:
            known[key] = {row.index: row.bytes for row in vertex_inputs(frame, step) if not row.name}
        if known[key]:
            steps.setdefault(name, []).append(step)
            unused.setdefault(name, {}).update(known[key])
    for name, where in steps.items():
        size = sum(unused[name].values())
        vertices = sum(int(frame.steps.vertices[s]) for s in where)
        numbers = ", ".join(str(i) for i in sorted(unused[name]))
        yield Finding(
            id=f"unused-attributes-{name}", rule="unused-attributes", page="Geometry",
            title=f"{program_name(frame, name)} does not read attribute{'s' if len(unused[name]) > 1 else ''} {numbers}, enabled in {len(where):,} step{'s' if len(where) > 1 else ''}",
            why="An enabled array that no shader reads costs bandwidth where the driver fetches it, and room in the buffer in any case.",
            steps=where, evidence={"bytes a vertex": size, "vertices": vertices, "bytes fetched at most": size * vertices},
            estimate_ms=None, how="", price="a vertex layout of its own for this program", conditions="no other program reads the same array in the same layout",
            refused="drivers skip what shaders do not read: there is nothing to measure here",
        )  # fmt: skip
