"""Tries every batch and every plan of captured frames, and prints whose picture does not stay as it is.

    python tools/prove_plans.py [FILE.wend | words]...     files, or programs of the matrix whose name contains a word

Only pictures and what a frame leaves behind are compared; nothing is timed. Ends with how many were tried and what
came of them: identical, changed by how much, or why not to be tried.
"""

from __future__ import annotations

import collections
import os
import re
import sys
import tempfile
from pathlib import Path

from program_matrix import Program, programs

from wendascope.advice.findings import Case, Finding, find
from wendascope.analysis.geometry.drawn import Drawn
from wendascope.errors import TrialError, WendascopeError
from wendascope.frame.file import load, save
from wendascope.measure.drawn import measure_drawn
from wendascope.replay.client import Replay
from wendascope.tap.launch import Target, Trigger
from wendascope.trials.proofs.runs import outcome_of

FRAME = 15
RULES = ("copies", "mergeable", "textured-batch", "small-batches", "draw-plan")


def tried(item: Finding, replay: Replay) -> str:
    """What came of one finding, in words."""
    assert item.remedy is not None
    try:
        outcome = replay.run(outcome_of.asked([item.remedy]))
    except TrialError as error:
        return f"not tried: {error}"
    if outcome.same:
        return "identical"
    if outcome.pixels_different:
        return f"changed: {outcome.pixels_different} pixels by up to {outcome.max_difference}"
    return f"changed: {outcome.later_pixels} pixels later; {', '.join(outcome.left_behind[:3])}"


def freedom(item: Finding) -> str:
    """Whether a finding's order is always legal, or legal in this picture."""
    return "here" if "in this picture" in item.conditions else "always"


def try_frame(name: str, path: Path, totals: collections.Counter[str]) -> None:
    try:
        frame = load(path)
        with Replay(path) as replay:
            drawn: Drawn = replay.run(measure_drawn.asked())
            findings = [f for f in find(Case(frame, drawn, None)) if f.rule in RULES]
            counts: collections.Counter[str] = collections.Counter()
            bad = []
            for item in findings:
                result = tried(item, replay)
                kind = f"{freedom(item)} {result.split(':')[0]}"
                counts[kind] += 1
                if result != "identical":
                    bad.append(f"    {item.id}: {item.title}\n        {freedom(item)}, {result}")
    except WendascopeError as error:
        print(f"{name:<30} {str(error)[:150]}", flush=True)
        return
    totals.update(counts)
    shown = ", ".join(f"{count} {kind}" for kind, count in sorted(counts.items())) or "no batches"
    print("\n".join([f"{name:<30} {len(frame.steps):>6} steps  {shown}", *bad]), flush=True)


def capture(program: Program, path: Path) -> bool:
    try:
        with Target(program.command, environment={**os.environ, **dict(program.environment)}) as target:
            save(target.capture(Trigger(frame=FRAME, frame_end=program.frame_end), 60.0), path)
    except WendascopeError as error:
        missing = re.search(r"No module named '\w+'", getattr(error, "output", ""))
        print(f"{program.name:<30} {missing[0] if missing else str(error)[:150]}", flush=True)
        return False
    return True


def main() -> None:
    files = [Path(word) for word in sys.argv[1:] if word.endswith(".wend")]
    words = [word for word in sys.argv[1:] if not word.endswith(".wend")]
    totals: collections.Counter[str] = collections.Counter()
    for path in files:
        try_frame(path.stem, path, totals)
    if words or not files:
        with tempfile.TemporaryDirectory() as folder:
            for program in programs():
                if not words or any(word in program.name for word in words):
                    path = Path(folder) / "frame.wend"
                    if capture(program, path):
                        try_frame(program.name, path, totals)
    print("\ntogether: " + (", ".join(f"{count} {kind}" for kind, count in sorted(totals.items())) or "nothing tried"))


if __name__ == "__main__":
    main()
