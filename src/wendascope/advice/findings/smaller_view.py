"""Views that are drawn at a larger size than they are shown at."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from wendascope.advice.findings._registry import Case, Finding, finding
from wendascope.advice.rule import Effort, Rule, Side
from wendascope.frame.remedy import Remedy
from wendascope.frame.roles import POST, SCENE

_DIVIDE = 2
_ROOM = 1.5
"""Pixels that the smaller view has to have for each fragment that reads it."""


@finding(Rule("smaller-view", "Overdraw", Side.GPU, Effort.SETTING, risk="the view becomes coarser: look at it"))
def smaller_views(case: Case) -> Iterator[Finding]:
    """Views of which fewer fragments read than a quarter of their pixels."""
    frame = case.frame
    done: set[frozenset[int]] = set()
    for index, role in enumerate(frame.pass_roles):
        target = frame.passes.targets[index]
        own = frozenset(frame.resource_flow.targets[index])
        if role.role not in SCENE or not target.framebuffer or own in done:
            continue
        done.add(own)
        passes = [p for p in range(len(case.names)) if frozenset(frame.resource_flow.targets[p]) == own]
        fragments = _fragments_reading(case, passes)
        pixels = target.width * target.height
        if fragments is None or fragments == 0 or pixels < _DIVIDE**2 * _ROOM * fragments:
            continue
        steps = [s for p in passes for s in case.steps_of(p) if frame.steps.kind_name(s) in ("draw", "clear")]
        ms = case.time_of(steps)
        vertices = sum(case.drawn.steps[s].vertex_ms or 0.0 for s in steps)
        name, width, height = case.names[index], target.width // _DIVIDE, target.height // _DIVIDE
        yield Finding(
            id=f"smaller-view-{index}",
            rule="smaller-view",
            title=(
                f"{name}: {target.width} x {target.height} pixels are shown on {fragments:,}; {width} x {height} would"
                " take a quarter"
            ),
            why=(
                "Each fragment that samples the view shows one place of it. There are so few of them that most of what"
                " is drawn is never seen, or only on average."
            ),
            steps=steps,
            evidence={
                "pixels drawn": pixels,
                "fragments that read it": fragments,
                "pixels at half width and height": width * height,
            },
            estimate_ms=None if ms is None else max(ms - vertices, 0.0) * (1 - 1 / _DIVIDE**2),
            how="three quarters of what the view takes beside its vertices; scaling up is not counted",
            price="a coarser picture where the view is looked at from near",
            conditions="it is shown no larger in other frames; else choose its size by its size on screen",
            remedy=Remedy("smaller-view", steps, divide=_DIVIDE),
        )


def _fragments_reading(case: Case, passes: list[int]) -> int | None:
    """Fragments of all draws that sample a view once each; None where somebody reads it in another way."""
    frame, found = case.frame, set[int]()
    resources = {r for p in passes for r in frame.resource_flow.targets[p]}
    steps, read = frame.resource_flow.reads
    readers = set(steps[np.isin(read, list(resources))].tolist())
    sampled = {
        a.name for p in passes for a in frame.passes.targets[p].attachments if a.kind == "texture" and a.is_colour
    }
    for use in frame.uses.textures:
        found.update(use.steps[np.isin(use.textures, list(sampled))].tolist())
    roles = frame.pass_roles
    if readers - found or any(roles[int(frame.passes.of_step[s])].role in POST for s in found):
        return None
    counts = [case.drawn.steps[s].fragments for s in found]
    fetches = {p.program: max((s.cost.fetches for s in p.stages if s.cost), default=1.0) for p in case.shaders}
    uses = {
        int(frame.steps.program[s]): sum(use.program == int(frame.steps.program[s]) for use in frame.uses.textures)
        for s in found
    }
    # a shader that samples more often than it has samplers may sample the view several times
    if any(fetches.get(program, 1.0) > samplers for program, samplers in uses.items()) or any(c < 0 for c in counts):
        return None
    return sum(counts)
