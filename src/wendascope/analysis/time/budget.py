"""Is the frame over budget, what bounds it, and how much of it are the most expensive passes?"""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import dataclass

from wendascope.analysis.time.frame_bound import CPU, ELSEWHERE, GPU, Bound
from wendascope.texts import capital
from wendascope.texts import share as per_cent

BUDGETS_MS = {120: 8.3, 90: 11.1, 72: 13.9, 60: 16.7, 30: 33.3}
"""Frames a second -> milliseconds a frame may take."""
_MOST = 0.8


@dataclass(frozen=True)
class Verdict:
    """The answer to the first question: a sentence to read first, and what it stands on."""

    sentence: str
    ratio: float
    """Frame time over budget."""
    late: str
    """What bounds a frame that is over its budget: `GPU`, `CPU`, `elsewhere` (the program waits outside OpenGL);
    `nobody` within it.
    """
    evidence: str
    numbers: str
    """The times that the answer stands on, and where most of it is."""


_SAID = {"nobody": "within it", GPU: "GPU-bound", CPU: "CPU-bound", ELSEWHERE: "it waits outside OpenGL"}


def judge(
    frame_ms: float, cpu_ms: float, pass_ms: Sequence[float], budget_ms: float, bound: Bound | None = None
) -> Verdict:
    """Compare the frame's replayed time and the target's own CPU time with a budget.

    `frame_ms` is the work of the whole frame until drained, `cpu_ms` the target's own CPU time without waiting,
    `pass_ms` the time of each pass, all in milliseconds; `bound` is what the running program showed, which decides
    who bounds it where it is clear.
    """
    if bound is not None and bound.cpu_ms is not None:
        cpu_ms = bound.cpu_ms
    longest = max(frame_ms, cpu_ms)
    late = GPU if frame_ms >= cpu_ms else CPU
    if bound is not None and bound.who in (GPU, CPU):
        late = bound.who
        longest = frame_ms if late == GPU else max(cpu_ms, bound.frame_ms - bound.blocked_ms)
    elif bound is not None and bound.who == ELSEWHERE and bound.frame_ms > max(longest, budget_ms):
        late, longest = ELSEWHERE, bound.frame_ms
    ratio = longest / budget_ms
    if ratio <= 1:
        late = "nobody"
    answer = f"{_times(ratio)} the budget: {_SAID[late]}."
    parts = [f"{longest:.1f} ms of {budget_ms:.1f} ms"]
    count, share = most_expensive_passes(pass_ms)
    if count and count < len(pass_ms):
        parts.append(
            f"{_number(count).lower()} of {_number(len(pass_ms)).lower()} passes {'is' if count == 1 else 'are'}"
            f" {per_cent(share)} of it"
        )
    evidence = (
        f"the frame's work takes {frame_ms:.1f} ms when replayed; the program's thread takes {cpu_ms:.1f} ms of CPU"
        " time (waits excluded)"
    )
    return Verdict(capital(answer), ratio, late, evidence, "; ".join(parts))


def most_expensive_passes(pass_ms: Sequence[float]) -> tuple[int, float]:
    """The fewest passes that make up 80 % of all pass time, and their share."""
    total = sum(pass_ms)
    if total <= 0:
        return 0, 0.0
    parts = list(itertools.accumulate(sorted(pass_ms, reverse=True)))
    count = next((i for i, part in enumerate(parts, 1) if part >= _MOST * total), len(parts))
    return count, parts[count - 1] / total


def _times(ratio: float) -> str:
    if ratio <= 1:
        return f"{per_cent(ratio)} of"
    if ratio < 1.1:
        return f"{ratio:.2f} times"
    return f"{ratio:.1f} times" if ratio < 10 else f"{ratio:.0f} times"


def _number(n: int) -> str:
    words = ["No", "One", "Two", "Three", "Four", "Five", "Six", "Seven", "Eight", "Nine", "Ten", "Eleven", "Twelve"]
    return words[n] if n < len(words) else str(n)
