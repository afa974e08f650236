"""Captures the demo frames that ship with Wendascope, off-screen, from the running demo program, and measures them.

With `--measure`, the frames that are there are measured again, and what was measured before is left out. With names of
files, only those are made.
"""

from __future__ import annotations

import contextlib
import os
import sqlite3
import sys
from pathlib import Path

from wendascope.demo.data import PLATFORM_FRAMES
from wendascope.frame.file import save_sequence
from wendascope.frame.places import frame_path, place_of
from wendascope.replay.client import Replay
from wendascope.tap.launch import Target, Trigger
from wendascope.trials.experiments.limits import find_limits
from wendascope.trials.plan import prove_plan
from wendascope.trials.proofs.prove_all import prove_all
from wendascope.trials.survey.examine import case_of, examine_file

DATA = Path(__file__).parent.parent / "src" / "wendascope" / "demo" / "data"
FRAME = 30
DEAREST = 4
LARGEST = 4 << 20
FRAMES: tuple[tuple[str, list[str], int], ...] = (
    ("depot.wend", [], 1),
    ("depot-better.wend", ["--better", "all"], 1),
    ("signal-box.wend", ["--view", "signal-box"], 1),
    ("platform.wend", ["--view", "platform"], PLATFORM_FRAMES),
    ("store.wend", ["--view", "store"], 1),
)
"""(file, options of the demo, how many frames in a row); the last one is measured."""


def capture(path: Path, options: list[str], count: int) -> None:
    environment = {**os.environ, "PYTHONUNBUFFERED": "1"}
    command = [sys.executable, "-m", "wendascope.demo", "--off-screen", *options]
    frames, trigger = [], Trigger(frame=FRAME)
    with Target(command, environment=environment) as target:
        for number in range(count):
            then = Trigger(frame=FRAME + number + 1) if number < count - 1 else None
            frames.append(target.capture(trigger, 120.0, then=then))
            trigger = then or trigger
    for frame in frames:
        frame.metadata.program, frame.metadata.arguments = "python", ["-m", "wendascope.demo", *options]
    save_sequence(frames, path)


def forget(path: Path) -> None:
    """Leave out what was measured; the frame stays as it was captured, in the version of its file."""
    with contextlib.closing(sqlite3.connect(path)) as database:
        with database:
            database.execute("DELETE FROM added")
        database.execute("VACUUM")


def measure(path: Path) -> None:
    """Survey, layers, findings, a proof of each and of the plan, and what limits the most expensive programs: all kept
    in the file.
    """
    with Replay(path) as replay:
        found = examine_file(path, replay=replay)
        assert found.survey.verification.identical, f"{path.name} does not replay to the same picture"
        prove_all(
            path, found.frame, [f for f in found.findings if f.remedy is not None], replay, unsure=True, budget=600.0
        )
        case = case_of(found.frame, found.drawn, found.survey)
        prove_plan(path, case, found.findings, replay, budget=300.0)
        for study in case.study_shaders()[:DEAREST]:
            find_limits(path, study, replay)
    size = place_of(path)[0].stat().st_size
    assert size < LARGEST, f"{path.name} is {size} bytes"
    print(
        f"{path.name}: {len(found.frame.steps)} steps, {size} bytes, {found.survey.frame_ms.median:.1f} ms,"
        f" {len(found.findings)} findings"
    )


def main() -> None:
    only = [word for word in sys.argv[1:] if word.endswith(".wend")]
    for name, options, count in FRAMES:
        if only and name not in only:
            continue
        path = DATA / name
        if "--measure" in sys.argv[1:]:
            forget(path)
        else:
            capture(path, options, count)
        measure(frame_path(path, count))


if __name__ == "__main__":
    main()
