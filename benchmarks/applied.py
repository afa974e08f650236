"""What is promised of changes, against what they bring once the program itself is changed."""

from __future__ import annotations

import statistics
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path

from benchmarks.replaying import Row
from wendascope.advice.recommend import Recommendation, whole_frame_ms
from wendascope.frame.file import load, save
from wendascope.replay.client import Replay
from wendascope.tap.launch import Target, Trigger
from wendascope.trials.plan import prove_plan, recommendations_of
from wendascope.trials.proofs.proof import stored_proofs
from wendascope.trials.survey.examine import case_of, examine_file

_PROGRAM = Path(__file__).with_name("lamps.py")
_FLAWS = {
    "instancing": ("draw-plan", "copies"),
    "mesh": ("too-fine",),
    "filter": ("fine-full-screen",),
    "state": ("repeated-state", "overwritten-state"),
}
"""What mends a flaw in the program -> the rules that advise it."""
_FRAMES, _TURNS = 20, 3


def _measured(better: str) -> float:
    command = [sys.executable, str(_PROGRAM), "--measure", str(_FRAMES), "--better", better]
    return float(subprocess.run(command, check=True, capture_output=True, text=True).stdout)


def _promised(found: list[Recommendation], rules: tuple[str, ...]) -> float:
    """What is proved, and up to so much of the program's own time between the calls that go."""
    mine = [item for item in found if set(rules) & set(item.rules)]
    best = max(mine, key=lambda item: item.gain, default=None)
    if best is None:
        return 0.0
    proved = [gain.ms for gain in (best.gpu, best.cpu) if gain is not None and gain.proved]
    return max(proved, default=0.0) + best.own_ms


def applied() -> Iterator[Row]:
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "lamps.wend"
        with Target([sys.executable, str(_PROGRAM)]) as target:
            save(target.capture(Trigger(frame=10), 120.0), path)
        with Replay(path) as replay:
            examined = examine_file(path, replay=replay)
            case = case_of(load(path), examined.drawn, examined.survey)
            prove_plan(path, case, examined.findings, replay)
        found = recommendations_of(case, examined.findings, stored_proofs(path))
    frame_ms, hits = whole_frame_ms(case), 0
    before = statistics.median(_measured("") for _ in range(_TURNS))
    for flaw, rules in _FLAWS.items():
        pairs = [(_measured(""), _measured(flaw)) for _ in range(_TURNS)]
        gained = statistics.median(a - b for a, b in pairs)
        promised = _promised(found, rules) * before / frame_ms
        near = abs(promised - gained) <= max(0.3 * abs(gained), 0.02 * before)
        hits += near
        yield (
            f"a script's frame of {before:.0f} ms, {flaw} mended",
            f"promised {promised:.1f}, is {gained:.1f} ms",
            "30 %",
        )
    yield ("promises within 30 % (or 2 % of the frame)", f"{hits} of {len(_FLAWS)}", ">= 80 %")


BENCHMARKS = {"applied": applied}
