"""Replay and survey of the demo frame, and the command line's answers."""

from __future__ import annotations

import os
import re
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

import numpy as np

from wendascope.measure.pictures import verify
from wendascope.measure.times import frame_times
from wendascope.replay.client import Replay

Row = tuple[str, str, str]
DEMO = Path(__file__).parent.parent / "src" / "wendascope" / "demo" / "data" / "depot.wend"
_PAIRS = 5


def _demo_frame_ms() -> float:
    command = [sys.executable, "-m", "wendascope.demo", "--off-screen", "--frames", "14", "--times"]
    text = subprocess.run(command, capture_output=True, text=True, check=True).stdout
    return float(re.search(r"([\d.]+) ms a frame", text)[1])  # type: ignore[index]


def replay_ratio() -> Iterator[Row]:
    """The demo frame replayed, against the demo program's own frames, in turn."""
    ratios = []
    with Replay(DEMO) as replay:
        replay.run(verify.asked())
        for _ in range(_PAIRS):
            own = _demo_frame_ms()
            replayed = float(np.median(replay.run(frame_times.asked(repeats=7)).frame_ms))
            ratios.append(replayed / own)
    yield (
        "replay of the demo frame / the demo's own frame time",
        f"{np.median(ratios):.2f} ({min(ratios):.2f} to {max(ratios):.2f})",
        "<= 1.1",
    )


def survey_time() -> Iterator[Row]:
    for what, options, bar in (
        ("times only", ["--until", "times"], "<= 15 s"),
        ("with layers, geometry and findings", [], "-"),
    ):
        times = []
        for _ in range(3):
            with tempfile.TemporaryDirectory() as folder:
                path = Path(shutil.copy(DEMO, folder))
                started = time.perf_counter()
                subprocess.run(
                    [sys.executable, "-m", "wendascope.cli", "survey", str(path), *options],
                    capture_output=True,
                    check=True,
                )
                times.append(time.perf_counter() - started)
        yield (
            f"survey of the demo frame, whole command, {what}",
            f"{np.median(times):.1f} s ({min(times):.1f} to {max(times):.1f})",
            bar,
        )


def show_time() -> Iterator[Row]:
    command = [sys.executable, "-m", "wendascope.cli", "show", str(DEMO)]
    times = []
    with tempfile.TemporaryDirectory() as folder:  # as users have it: what was compiled once is kept
        environment = {k: v for k, v in os.environ.items() if k != "PYTHONDONTWRITEBYTECODE"}
        environment["PYTHONPYCACHEPREFIX"] = folder
        subprocess.run(command, capture_output=True, check=True, env=environment)
        for _ in range(9):
            started = time.perf_counter()
            subprocess.run(command, capture_output=True, check=True, env=environment)
            times.append(time.perf_counter() - started)
    yield (
        "show of the demo frame, whole command",
        f"{np.median(times):.2f} s ({min(times):.2f} to {max(times):.2f})",
        "<= 0.4 s",
    )


BENCHMARKS = {"replay": replay_ratio, "survey": survey_time, "show": show_time}
