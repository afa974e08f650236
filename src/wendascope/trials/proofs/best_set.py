"""Which changes go into one frame: the set that saves most, among those that do not want the same steps."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from wendascope.advice.findings import Finding
from wendascope.frame.remedy import Remedy
from wendascope.trials.remedies import Clash, kind_of

_EXACT = 24
"""Changes that exclude each other in one knot up to which every set is looked at; of more, the best first."""
_MOSTLY = 0.8
"""Of a change's steps: where another one leaves so many out, both together are the other one."""
_WANTS = {
    (Clash.DRAWS, Clash.DRAWS),
    (Clash.DRAWS, Clash.ORDER),
    (Clash.DRAWS, Clash.STEPS),
    (Clash.ORDER, Clash.ORDER),
    (Clash.ORDER, Clash.STEPS),
    (Clash.STEPS, Clash.STEPS),
}
"""What two changes of the same steps exclude each other by."""


def excludes(a: Finding, b: Finding) -> bool:
    """Whether two findings with remedies cannot be, or gain nothing, in one frame, by what their remedies are."""
    assert a.remedy is not None and b.remedy is not None
    first, second = _steps(a.remedy), _steps(b.remedy)
    shared = first & second
    if not shared:
        return False
    kinds = kind_of(a.remedy).clash, kind_of(b.remedy).clash
    if kinds in _WANTS or kinds[::-1] in _WANTS:
        return True
    gone = (
        (a.kept_rule.leaves_out, len(shared) >= _MOSTLY * len(second)),
        (
            b.kept_rule.leaves_out,
            len(shared) >= _MOSTLY * len(first),
        ),
    )
    return any(leaves_out and mostly for leaves_out, mostly in gone)


def _steps(remedy: Remedy) -> set[int]:
    return {*remedy.steps, *remedy.order, *(step for order in remedy.orders for step in order)}


def best_set(
    findings: Sequence[Finding],
    gain: Callable[[Finding], float],
    apart: Callable[[Finding, Finding], bool] = excludes,
) -> list[Finding]:
    """The findings of the set that gains most without two that exclude each other, the largest gain first.

    Exact where no more than `_EXACT` findings hang together by exclusions; of larger knots the largest gain is taken
    first, which gains at least as much as the best single one.
    """
    order = sorted(findings, key=lambda f: (-gain(f), f.id))
    edges = [{k for k, other in enumerate(order) if k != n and apart(item, other)} for n, item in enumerate(order)]
    chosen: set[int] = set()
    for knot in _knots(edges):
        chosen |= _heaviest(knot, edges, [max(gain(f), 0.0) for f in order])
    return [order[n] for n in sorted(chosen)]


def _knots(edges: Sequence[set[int]]) -> list[list[int]]:
    """What hangs together by exclusions, each in order."""
    seen, found = set[int](), list[list[int]]()
    for start in range(len(edges)):
        if start in seen:
            continue
        knot, waiting = set[int](), [start]
        while waiting:
            at = waiting.pop()
            if at not in knot:
                knot.add(at)
                waiting += edges[at] - knot
        seen |= knot
        found.append(sorted(knot))
    return found


def _heaviest(knot: list[int], edges: Sequence[set[int]], weights: Sequence[float]) -> set[int]:
    """The independent set of most weight: by branch and bound, the members in the order of their weights."""
    if len(knot) > _EXACT:
        taken: set[int] = set()
        for item in knot:
            if not edges[item] & taken:
                taken.add(item)
        return taken
    best: tuple[float, set[int]] = (-1.0, set())

    def grow(at: int, taken: set[int], weight: float, rest: float) -> None:
        nonlocal best
        if weight > best[0]:
            best = weight, set(taken)
        if at == len(knot) or weight + rest <= best[0]:
            return
        item, left = knot[at], rest - weights[knot[at]]
        if not edges[item] & taken:
            grow(at + 1, taken | {item}, weight + weights[item], left)
        grow(at + 1, taken, weight, left)

    grow(0, set(), 0.0, sum(weights[item] for item in knot))
    return best[1]
