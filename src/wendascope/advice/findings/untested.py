"""Overdraw of opaque steps that no depth test decides about."""

from __future__ import annotations

from collections.abc import Iterator

from wendascope.advice.causes import ORDER
from wendascope.advice.findings._registry import Case, Finding, finding
from wendascope.advice.rule import Effort, Rule, Side, Verify
from wendascope.texts import share

_LEAST_SHARE = 0.3
"""Of their fragments, covered later: what is laid over in passing is less."""
_LEAST_FRAGMENTS = 5000


@finding(Rule("untested-overdraw", "Overdraw", Side.GPU, Effort.SUBMISSION, Verify.ADVICE, cause=ORDER))
def untested_overdraw(case: Case) -> Iterator[Finding]:
    """Opaque draws without a depth test that are drawn over."""
    for index, name in enumerate(case.names):
        rows = {s: r for s, r in case.rows(index) if r.kind == "opaque" and not r.depth_test}
        fragments = sum(r.fragments for r in rows.values())
        covered = sum(r.fragments - r.survivors for r in rows.values())
        if covered < _LEAST_FRAGMENTS or covered < _LEAST_SHARE * fragments or len(rows) < 2:
            continue
        most = case.weighted({s: (r.fragments - r.survivors) / r.fragments for s, r in rows.items() if r.fragments > 0})
        yield Finding(
            id=f"untested-overdraw-{index}",
            rule="untested-overdraw",
            title=(
                f"{name}: {share(covered / fragments)} of {fragments:,} fragments of draws without a depth test are"
                " covered later"
            ),
            why=(
                "Opaque steps are drawn over each other in the order of their calls. With a depth test and the nearest"
                " first, or with those left out that others cover wholly, the covered fragments need no shading."
            ),
            steps=sorted(rows),
            evidence={
                "fragments": fragments,
                "covered later": covered,
                "steps": len(rows),
                "time of the covered fragments, at most, ms": round(most or 0.0, 3),
            },
            estimate_ms=None,
            how="",
            price="a depth for each step, and a depth buffer where the target has none",
            conditions="the steps are opaque in every frame",
            refused="the frame has no depth to sort by: which step is in front is known to the program",
        )
