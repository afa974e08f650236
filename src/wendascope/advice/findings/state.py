"""Calls that set state for nothing, and orders of steps with fewer switches."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
import numpy.typing as npt

from wendascope.advice.causes import STATE
from wendascope.advice.findings._registry import Case, Facts, Finding, finding
from wendascope.advice.rule import Effort, Rule, Side
from wendascope.analysis.draws.switches import find_switches
from wendascope.analysis.guidelines import guidelines
from wendascope.frame.call_use import KINDS, OVERWRITTEN, REPEATS, USED
from wendascope.frame.remedy import Remedy

_LEAST_SHARE = 0.10
"""Of all calls that set state: fewer redundant ones are what careful programs have too."""
_LEAST_CALLS = 50


@finding(
    Rule(
        "repeated-state",
        "State",
        Side.CPU,
        Effort.SUBMISSION,
        risk="low, as long as nothing else sets state of the context",
        cause=STATE,
    ),
    Rule("overwritten-state", "State", Side.CPU, Effort.SUBMISSION, risk="low", cause=STATE),
)
def repeated_state(case: Case) -> Iterator[Finding]:
    """State that is set to what it is, or set again before it is used."""
    use = case.frame.call_use()
    setting = int(np.isin(use.use, (USED, REPEATS, OVERWRITTEN)).sum())
    ms = case.frame.call_ms
    repeats, over = use.use == REPEATS, use.use == OVERWRITTEN
    count = int(repeats.sum())
    if count >= _LEAST_CALLS and count >= _LEAST_SHARE * setting:
        kinds = {
            f"{KINDS[k]}": int((repeats & (use.kind == k)).sum())
            for k in range(len(KINDS))
            if (repeats & (use.kind == k)).any()
        }
        yield Finding(
            id="repeated-state",
            rule="repeated-state",
            title=f"{count:,} of {setting:,} state calls repeat the current value",
            why=(
                "The driver checks each call and changes nothing. A program that remembers the value it set last can"
                " skip the call."
            ),
            steps=[],
            evidence={
                "calls that repeat": count,
                **kinds,
                "CPU time in them while recorded, ms": round(float(ms[repeats].sum()), 3),
            },
            estimate_ms=float(ms[repeats].sum()),
            how="CPU time inside these calls while the frame was recorded",
            price="a copy of the state that was set last, in the program",
            conditions="nothing else in the process sets state of the same context",
            remedy=Remedy("drop-repeats", []),
            facts=Facts(calls=count, own_ms=_own_ms(case, repeats)),
        )
    redundant = int(over.sum())
    if redundant >= _LEAST_CALLS and redundant >= _LEAST_SHARE * setting:
        yield Finding(
            id="overwritten-state",
            rule="overwritten-state",
            title=f"{redundant:,} state calls are overwritten before any draw uses them",
            why=(
                "Another call sets the same state before any draw, upload or other call depends on it. Selecting a"
                " texture unit only to repeat its binding counts too."
            ),
            steps=[],
            evidence={
                "calls overwritten": redundant,
                "CPU time in them while recorded, ms": round(float(ms[over].sum()), 3),
            },
            estimate_ms=float(ms[over].sum()),
            how="CPU time inside these calls while the frame was recorded",
            price="none: set state where it is used",
            conditions="calls that only serve redundant calls are counted; the proof leaves out both",
            remedy=Remedy("drop-needless", []),
            facts=Facts(calls=redundant, own_ms=_own_ms(case, over)),
        )


def _own_ms(case: Case, calls: npt.NDArray[np.bool_]) -> float:
    """What the program itself spends right before some calls, ms: what a scripting language takes to make a call is
    there, and goes with the call.
    """
    lane = case.frame.cpu_lane
    if not len(lane.begin):
        return 0.0
    before = np.maximum(lane.begin[1:] - lane.end[:-1], 0.0)
    return float(before[calls[1:]].sum())


@finding(Rule("switches", "State", Side.CPU, Effort.SUBMISSION))
def switches(case: Case) -> Iterator[Finding]:
    """Runs whose draws could come in an order that changes state less often."""
    for index, found in enumerate(find_switches(case.sharing, case.drawn)):
        for number, (run, order) in enumerate(found.runs):
            saved = {
                name: found.now[name] - found.best[name] for name in found.now if found.now[name] != found.best[name]
            }
            if sum(saved.values()) < guidelines().batches.least_switches:
                continue
            now = ", ".join(f"{name} {found.now[name]} -> {found.best[name]}" for name in saved)
            yield Finding(
                id=f"switches-{index}" + (f"-{number}" if number else ""),
                rule="switches",
                title=f"{case.names[index]}: {len(run):,} draws switch state more often than necessary ({now})",
                why=(
                    "Draws that share a program or textures are drawn apart from each other. Each switch makes the"
                    " driver check everything that depends on it."
                ),
                steps=run,
                evidence={f"{name} switches saved": count for name, count in saved.items()},
                estimate_ms=None,
                how="the cost of a switch depends on the driver; the proof measures it",
                price="sorting on the CPU each frame; fewer draws in depth order",
                conditions=(
                    "opaque draws with a depth test, or blended ones that do not overlap; fragments of equal depth may"
                    " differ"
                ),
                remedy=Remedy("reorder-steps", run, order),
            )
