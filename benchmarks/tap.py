"""What the tap costs a target that is not being captured: frame times with and without it, in turn."""

from __future__ import annotations

import re
import subprocess
import sys
from collections.abc import Callable, Iterator

import numpy as np

from wendascope.errors import TargetError
from wendascope.tap.launch import Target, Trigger

PAIRS = 15
Row = tuple[str, str, str]


def _tapped(command: list[str]) -> str:
    """Run a command under the tap to its end, reading its heartbeats; its output."""
    with Target(command) as target:
        target.connect(Trigger(after_seconds=1e9), 60.0)
        assert target.channel is not None
        try:
            while True:
                target.channel.receive(1.0)
        except TargetError:
            target.process.wait()
        target._reader.join(2)
        return "\n".join(target.output.lines)


def _plain(command: list[str]) -> str:
    return subprocess.run(command, capture_output=True, text=True, check=True).stdout


def _ratio(command: list[str], read: Callable[[str], float]) -> tuple[float, float, float]:
    """Median over pairs of (with / without), and its range."""
    ratios = []
    for pair in range(PAIRS):
        runs = [_tapped, _plain] if pair % 2 else [_plain, _tapped]
        times = {run: read(run(command)) for run in runs}
        ratios.append(times[_tapped] / times[_plain])
    return float(np.median(ratios)), min(ratios), max(ratios)


def idle_demo() -> Iterator[Row]:
    command = [sys.executable, "-m", "wendascope.demo", "--off-screen", "--size", "160x90", "--frames", "40", "--times"]
    median, low, high = _ratio(command, lambda text: float(re.search(r"([\d.]+) ms a frame", text)[1]))  # type: ignore[index]
    yield "tap idle, demo program (17,000 calls a frame), with/without", f"{median:.3f} ({low:.3f} to {high:.3f})", "<= 1.02"


def idle_glmark2() -> Iterator[Row]:
    command = ["glmark2", "--off-screen", "-s", "200x150", "-b", "build:use-vbo=true:duration=3.0", "-b", "buffer:duration=3.0"]

    def read(text: str) -> float:
        return sum(float(t) for t in re.findall(r"FrameTime: ([\d.]+) ms", text))

    median, low, high = _ratio(command, read)
    yield "tap idle, glmark2 build and buffer, with/without", f"{median:.3f} ({low:.3f} to {high:.3f})", "<= 1.02"


def recording() -> Iterator[Row]:
    """A frame while it is recorded, against ordinary frames of the same run."""
    command = [sys.executable, "-m", "wendascope.demo", "--off-screen", "--size", "160x90", "--frames", "1000"]
    ratios, held = [], []
    with Target(command) as target:
        for _ in range(7):
            frame = target.capture(Trigger(after_seconds=0.5), 60.0)
            assert frame.target_frame_ms is not None
            ratios.append(frame.metadata.recorded_ns / 1e6 / frame.target_frame_ms)
            held.append(frame.metadata.held_seconds)
    yield "frame being recorded / ordinary frame (demo program)", f"{np.median(ratios):.2f} ({min(ratios):.2f} to {max(ratios):.2f})", "<= 2"
    objects = sum(len(getattr(frame.objects, name)) for name in frame.objects.__struct_fields__)
    yield f"target held for its snapshot ({objects} objects)", f"{np.median(held):.2f} s", "<= 1 s for 2,000 objects"


BENCHMARKS = {"idle-demo": idle_demo, "idle-glmark2": idle_glmark2, "recording": recording}
