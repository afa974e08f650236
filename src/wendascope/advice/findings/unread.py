"""Passes whose result has no effect: nothing reads it, or only what has no effect itself."""

from __future__ import annotations

from collections.abc import Iterator

from wendascope.advice.causes import UNREAD
from wendascope.advice.findings._registry import Case, Finding, finding
from wendascope.advice.rule import Effort, Rule, Side
from wendascope.analysis.draws.liveness import without_effect
from wendascope.frame.frame import Frame
from wendascope.frame.remedy import Remedy
from wendascope.frame.roles import SCENE
from wendascope.texts import listed, plural


@finding(
    Rule(
        "unread-pass",
        "Overdraw",
        Side.GPU,
        Effort.CODE,
        risk="low: nothing in this frame or the next depends on it",
        cause=UNREAD,
        leaves_out=True,
    )
)
def unread_passes(case: Case) -> Iterator[Finding]:
    """Passes whose result nothing reads."""
    frame = case.frame
    dead = without_effect(frame)
    passes = [index for index in range(len(case.names)) if all(dead[s] for s in case.steps_of(index))]
    for chain in _chains(frame, passes):
        if not any(_draws(case, index) for index in chain):
            continue
        steps = sorted(s for index in chain for s in case.steps_of(index))
        # what the others serve comes first: the view before its shadows and what is made of it
        order = sorted(
            chain, key=lambda i: (frame.pass_roles[i].role not in SCENE, -(case.time_of(case.steps_of(i)) or 0.0))
        )
        names = [case.names[i] for i in order]
        title = listed(names if len(names) < 3 else [names[0], plural(len(names) - 1, "more pass", "more passes")])
        after = frame.knows_following
        yield Finding(
            id=f"unread-pass-{chain[0]}",
            rule="unread-pass",
            title=f"Nothing reads the result of {title}",
            why="No step with an effect samples, copies or reads back what is drawn here before it is cleared again"
            + (", and neither does the frame after." if after else ".")
            + (" Some of these passes are read only by each other." if len(chain) > 1 else ""),
            steps=steps,
            evidence={
                "steps": len(steps),
                "passes": len(chain),
                "fragments": sum(max(case.drawn.steps[s].fragments, 0) for s in steps),
            },
            estimate_ms=case.time_of(steps),
            how="the time of the passes",
            price="none",
            conditions="no later frame reads it"
            + ("" if after else ": capture the frame again to have the one after it looked at as well"),
            remedy=Remedy("drop-steps", steps),
        )


def _draws(case: Case, index: int) -> bool:
    return any(case.frame.steps.kind_name(s) == "draw" for s in case.steps_of(index))


def _chains(frame: Frame, passes: list[int]) -> list[list[int]]:
    """Passes grouped by who reads whom: a pass and all that only serves it are one finding."""
    joined = {index: index for index in passes}

    def root(index: int) -> int:
        while joined[index] != index:
            index = joined[index]
        return index

    flow, of_step = frame.resource_flow, frame.passes.of_step
    writers: dict[int, list[int]] = {}
    for step, resource in zip(*(column.tolist() for column in flow.writes), strict=True):
        index = int(of_step[step])
        known = writers.setdefault(resource, [])
        if index in joined and index not in known:
            known.append(index)
    for group in writers.values():
        for other in group[1:]:
            joined[root(other)] = root(group[0])
    for step, resource in zip(*(column.tolist() for column in flow.reads), strict=True):
        reader = int(of_step[step])
        if reader in joined and writers.get(resource):
            joined[root(reader)] = root(writers[resource][0])
    found: dict[int, list[int]] = {}
    for index in passes:
        found.setdefault(root(index), []).append(index)
    return sorted(found.values())
