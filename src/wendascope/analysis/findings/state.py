"""Calls that set state for nothing, and orders of steps with fewer switches."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from wendascope.analysis.call_use import KINDS, OVERWRITTEN, REPEATS, USED, call_ms, call_use
from wendascope.analysis.findings._registry import Case, Finding, Remedy, finding
from wendascope.analysis.switches import find_switches
from wendascope.analysis.yardsticks import yardsticks

_LEAST_SHARE = 0.10
"""Of all calls that set state: fewer needless ones are what careful programs have too."""
_LEAST_CALLS = 50


@finding("repeated-state")
def repeated_state(case: Case) -> Iterator[Finding]:
    use = call_use(case.frame)
    setting = int(np.isin(use.use, (USED, REPEATS, OVERWRITTEN)).sum())
    ms = call_ms(case.frame)
    repeats, over = use.use == REPEATS, use.use == OVERWRITTEN
    count = int(repeats.sum())
    if count >= _LEAST_CALLS and count >= _LEAST_SHARE * setting:
        kinds = {f"of them {KINDS[k]}": int((repeats & (use.kind == k)).sum()) for k in range(len(KINDS)) if (repeats & (use.kind == k)).any()}
        yield Finding(
            id="repeated-state", rule="repeated-state", page="State",
            title=f"{count:,} of {setting:,} calls that set state set what is already set",
            why="The driver checks each of them and changes nothing. A program that remembers what it set last need not call.",
            steps=[], evidence={"calls that repeat": count, **kinds, "CPU time in them while recorded, ms": round(float(ms[repeats].sum()), 3)},
            estimate_ms=float(ms[repeats].sum()), how="CPU time inside these calls while the frame was recorded",
            price="a copy of the state that was set last, in the program", conditions="nothing else in the process sets state of the same context",
            remedy=Remedy("drop-repeats", []),
        )  # fmt: skip
    needless = int(over.sum())
    if needless >= _LEAST_CALLS and needless >= _LEAST_SHARE * setting:
        yield Finding(
            id="overwritten-state", rule="overwritten-state", page="State",
            title=f"{needless:,} calls set what is replaced before anything uses it",
            why="Another call sets the same before any step, upload or other call depends on it; choosing a texture unit only to repeat its binding counts.",
            steps=[], evidence={"calls overwritten": needless, "CPU time in them while recorded, ms": round(float(ms[over].sum()), 3)},
            estimate_ms=float(ms[over].sum()), how="CPU time inside these calls while the frame was recorded",
            price="none: set state where it is used", conditions="calls that only served repeats are counted; the proof leaves out the repeats as well",
            remedy=Remedy("drop-needless", []),
        )  # fmt: skip


@finding("switches")
def switches(case: Case) -> Iterator[Finding]:
    for index, found in enumerate(find_switches(case.sharing, case.drawn)):
        for number, (run, order) in enumerate(found.runs):
            saved = {name: found.now[name] - found.best[name] for name in found.now if found.now[name] != found.best[name]}
            if sum(saved.values()) < yardsticks().batches.least_switches:
                continue
            now = ", ".join(f"{name} {found.now[name]} -> {found.best[name]}" for name in saved)
            yield Finding(
                id=f"switches-{index}" + (f"-{number}" if number else ""), rule="switches", page="State",
                title=f"{case.names[index]}: {len(run):,} steps switch more often than their order must ({now})",
                why="Steps that share a program or textures are drawn apart from each other, and each switch between them costs the driver a check "
                "of everything that depends on it.",
                steps=run, evidence={f"{name} switches saved": count for name, count in saved.items()},
                estimate_ms=None, how="what a switch costs differs from driver to driver: the proof tells",
                price="sorting on the CPU each frame; fewer steps in order of depth",
                conditions="opaque steps tested by depth, or blended ones that do not overlap; equal depths may come out otherwise",
                remedy=Remedy("reorder-steps", run, order),
            )  # fmt: skip
