"""Calls that hold the program until the GPU has done its work."""

from __future__ import annotations

from collections.abc import Iterator

from wendascope.advice.findings._registry import Case, Finding, finding
from wendascope.advice.rule import Effort, Rule, Side, Verify
from wendascope.frame.waits import Wait
from wendascope.texts import plural, three_digits

_LEAST_MS, _LEAST_SHARE = 0.5, 0.02
"""And of the recorded frame: shorter waits are not worth a change."""
_ADVICE = (
    (("glReadPixels", "glReadnPixels"), "read into a pixel buffer, and map that a frame or two later"),
    (("glGetTex", "glGetnTex", "glGetCompressed"), "read into a pixel buffer, and map that a frame or two later"),
    (("glGetQuery",), "ask for the result of a query some frames later, once it says that it is there"),
    (("glMap", "glGetBuffer", "glGetNamedBuffer"), "use several buffers in turn, or map without waiting"),
    (("glFinish",), "leave it out: nothing but a measurement needs it"),
    (("glClientWaitSync", "glWaitSync"), "wait for the fence of an earlier frame, not of this one"),
)


@finding(Rule("waiting-call", "Time", Side.CPU, Effort.CODE, Verify.COUNTED))
def waiting_calls(case: Case) -> Iterator[Finding]:
    """Calls that waited long while the frame was recorded, by command."""
    recorded = case.frame.cpu_lane.frame_ms
    by_command: dict[str, list[Wait]] = {}
    for wait in case.frame.waits:
        advice = next((text for starts, text in _ADVICE if wait.command.startswith(starts)), "")
        if advice and not wait.anyway:
            by_command.setdefault(wait.command, []).append(wait)
    for command, waits in by_command.items():
        ms = sum(wait.ms for wait in waits)
        if ms < max(_LEAST_MS, _LEAST_SHARE * recorded):
            continue
        longest = max(waits, key=lambda wait: wait.ms)
        advice = next(text for starts, text in _ADVICE if command.startswith(starts))
        yield Finding(
            id=f"waiting-call-{command}",
            rule="waiting-call",
            title=f"{command} holds the program for {three_digits(ms)} ms, in {plural(len(waits), 'call')}",
            why=(
                f"It waits for {longest.what}. Meanwhile the program computes nothing, and then the GPU has nothing to"
                f" do. To overlap both: {advice}."
            ),
            steps=[],
            evidence={
                "calls": len(waits),
                "time in them while recorded, ms": round(ms, 3),
                "longest, ms": round(longest.ms, 3),
                "the call of the longest": longest.call,
            },
            estimate_ms=None,
            how="recorded: what it saves depends on how much the program could do meanwhile",
            price="none" if command == "glFinish" else "results that are a frame or two old, and memory for them",
            conditions="nothing needs the result in the same frame",
            refused="a replay waits for all work anyway: the program decides when it asks",
        )
