"""Scenes that are submitted twice, once for each eye."""

from __future__ import annotations

from collections.abc import Iterator

from wendascope.advice.findings._registry import Case, Finding, finding
from wendascope.advice.rule import Effort, Rule, Side, Verify
from wendascope.analysis.draws.two_eyes import two_eyes
from wendascope.frame.frame import Frame
from wendascope.texts import plural


@finding(Rule("two-eyes", "Batching", Side.GPU, Effort.SUBMISSION, Verify.ADVICE))
def eyes(case: Case) -> Iterator[Finding]:
    """Pairs of draws that differ in nothing but the eye: one draw could make both."""
    frame = case.frame
    for pair in two_eyes(frame):
        names = [case.names[int(frame.passes.of_step[steps[0]])] for steps in (pair.first, pair.second)]
        where = names[0] if names[0] == names[1] else f"{names[0]} and {names[1]}"
        evidence: dict[str, int | float | str] = {
            "draws that occur twice": len(pair.first),
            "draws without a counterpart": pair.alone,
            "CPU time of the second ones' calls while recorded, ms": round(_submission(frame, pair.second), 3),
        }
        ms = case.time_of(pair.second)
        if ms is not None:
            evidence["time of the second ones, which stays, ms"] = round(ms, 3)
        yield Finding(
            id=f"two-eyes-{pair.first[0]}",
            rule="two-eyes",
            title=f"{where}: {plural(len(pair.first), 'draw')} occur twice, for two eyes",
            why=(
                "Program, data and textures are the same; the matrices differ only in what they give for x. One draw of"
                " two instances, or of a target with two views, makes both: half of the draws are submitted."
            ),
            steps=[*pair.first, *pair.second],
            evidence=evidence,
            estimate_ms=None,
            how="counted, not measured: vertices and fragments of both eyes are drawn as before",
            price="shaders that know of both views, and targets with two layers or viewports",
            conditions="the driver offers multiview, or layers and viewports chosen by vertex shaders",
            refused="drawing both eyes at once needs shaders made for it, which are not rewritten here",
        )


def _submission(frame: Frame, steps: list[int]) -> float:
    """CPU time of the calls that belong to some steps: those since the step before each."""
    ends = frame.steps.call
    ms = frame.call_ms
    return sum(float(ms[int(ends[s - 1]) + 1 if s else 0 : int(ends[s]) + 1].sum()) for s in steps)
