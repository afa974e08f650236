"""Is the frame over budget, who is late, and how much of it are the dearest passes?"""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import dataclass

BUDGETS_MS = {120: 8.3, 90: 11.1, 72: 13.9, 60: 16.7, 30: 33.3}
"""Frames a second -> milliseconds a frame may take."""
_MOST = 0.8


@dataclass(frozen=True)
class Verdict:
    """The answer to the first question, in one sentence and in numbers."""

    sentence: str
    ratio: float
    """Frame time over budget."""
    late: str
    """`GPU`, `CPU` or `nobody`."""
    evidence: str


def judge(frame_ms: float, cpu_ms: float, pass_ms: Sequence[float], budget_ms: float) -> Verdict:
    """Compare the frame's replayed time and the CPU time of issuing it with a budget.

    `frame_ms` is the work of the whole frame until drained, `cpu_ms` the target's own CPU time without
    waiting, `pass_ms` the time of each pass. All in milliseconds.
    """
    late = "nobody"
    if max(frame_ms, cpu_ms) > budget_ms:
        late = "GPU" if frame_ms >= cpu_ms else "CPU"
    longest = max(frame_ms, cpu_ms)
    ratio = longest / budget_ms
    parts = [f"{longest:.1f} ms, {_times(ratio)} the {budget_ms:.1f} ms budget."]
    parts.append({"nobody": "Nobody is late.", "GPU": "The GPU is late.", "CPU": "The CPU is late."}[late])
    count, share = dearest_passes(pass_ms)
    if count and len(pass_ms) > 1:
        parts.append(f"{_number(count)} of {_number(len(pass_ms)).lower()} passes {'is' if count == 1 else 'are'} {share:.0%} of it.")
    evidence = f"the frame's work takes {frame_ms:.1f} ms when replayed; issuing it took the program {cpu_ms:.1f} ms of CPU, waits left out"
    return Verdict(" ".join(parts), ratio, late, evidence)


def dearest_passes(pass_ms: Sequence[float]) -> tuple[int, float]:
    """The fewest passes that make up 80 % of all pass time, and their share."""
    total = sum(pass_ms)
    if total <= 0:
        return 0, 0.0
    parts = list(itertools.accumulate(sorted(pass_ms, reverse=True)))
    count = next((i for i, part in enumerate(parts, 1) if part >= _MOST * total), len(parts))
    return count, parts[count - 1] / total


def _times(ratio: float) -> str:
    if ratio < 1:
        return f"{ratio:.0%} of"
    return f"{ratio:.1f} times" if ratio < 10 else f"{ratio:.0f} times"


def _number(n: int) -> str:
    words = ["No", "One", "Two", "Three", "Four", "Five", "Six", "Seven", "Eight", "Nine", "Ten", "Eleven", "Twelve"]
    return words[n] if n < len(words) else str(n)
