"""Fragments that are shaded and then thrown away by the shader itself."""

from __future__ import annotations

from collections.abc import Iterator

from wendascope.advice.findings._registry import Case, Facts, Finding, finding
from wendascope.advice.findings.early_test import fragment_texts
from wendascope.advice.rule import Effort, Rule, Side, Verify
from wendascope.glsl.words import fragment_habits
from wendascope.texts import plural, share

_LEAST_SHADED = 5000
_MOST_KEPT = 0.5
"""Of the shaded fragments: where more is kept, discarding is what the shader is for."""


@finding(Rule("mostly-discarded", "Overdraw", Side.GPU, Effort.ASSET, Verify.ADVICE))
def mostly_discarded(case: Case) -> Iterator[Finding]:
    """Draws most of whose shaded fragments their shader discards."""
    discarding: dict[int, bool] = {}
    for index, name in enumerate(case.names):
        wasted: dict[int, int] = {}
        for step, row in case.rows(index):
            if row.shaded < _LEAST_SHADED or row.fragments < 0:
                continue
            kept = row.fragments + max(row.rejected, 0)
            program = int(case.frame.steps.program[step])
            if program not in discarding:
                texts = [text for _, text in fragment_texts(case, [step])]
                discarding[program] = any(fragment_habits(text).discards for text in texts)
            if discarding[program] and kept < _MOST_KEPT * row.shaded:
                wasted[step] = row.shaded - kept
        if not wasted:
            continue
        rows = case.drawn.steps
        shaded, kept = sum(rows[s].shaded for s in wasted), sum(rows[s].fragments for s in wasted)
        yield Finding(
            id=f"mostly-discarded-{index}",
            rule="mostly-discarded",
            title=(
                f"{name}: {plural(len(wasted), 'draw')} shade about {shaded:,} fragments and keep {kept:,};"
                f" {share(sum(wasted.values()) / shaded)} are discarded"
            ),
            why=(
                "A fragment that the shader discards is shaded up to there all the same, and early depth tests are off"
                " for the whole draw. Geometry that fits what is kept has none of it."
            ),
            steps=sorted(wasted),
            evidence={
                "fragments shaded, by the driver's count": shaded,
                "fragments written": kept,
                "rejected by depth": sum(max(rows[s].rejected, 0) for s in wasted),
            },
            estimate_ms=case.weighted({s: many / rows[s].shaded for s, many in wasted.items()}),
            how="each step's part of the pass's time, by its share of discarded fragments; drivers count in groups",
            price="geometry that fits what is kept, or what decides it known before drawing",
            conditions="other frames may keep more",
            refused="what is kept is known in the shader only: new geometry is the programmer's",
            facts=Facts(name),
        )
