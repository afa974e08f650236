"""What the tap costs a target that is not being captured: frame times with and without it, in turn."""

from __future__ import annotations

import functools
import re
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np

from wendascope.backends.opengl.frame import opengl_frame
from wendascope.errors import TargetError
from wendascope.frame.file import save
from wendascope.tap.launch import Target, Trigger

PAIRS = 15
Row = tuple[str, str, str]


@functools.cache
def heavy() -> str:
    """The call-heavy target, compiled."""
    program = Path(tempfile.mkdtemp()) / "heavy"
    source = Path(__file__).with_name("heavy.c")
    subprocess.run(["gcc", "-O2", str(source), "-o", str(program), "-l:libEGL.so.1", "-l:libOpenGL.so.0"], check=True)
    return str(program)


def _tapped(command: list[str]) -> str:
    """Run a command under the tap to its end, reading its frame_statistics; its output."""
    with Target(command) as target:
        try:
            target.connect(Trigger(after_seconds=1e9), 60.0)
            while True:
                target.poll(1.0)
        except TargetError:
            target.process.wait()
        target.output.finish()
        return "\n".join(target.output.lines)


def _plain(command: list[str]) -> str:
    return subprocess.run(command, capture_output=True, text=True, check=True).stdout


def ratio_of(command: list[str], read: Callable[[str], float], pairs: int = PAIRS) -> tuple[float, float, float]:
    """Median over pairs of (with / without), and its range."""
    ratios = []
    for pair in range(pairs):
        runs = [_tapped, _plain] if pair % 2 else [_plain, _tapped]
        times = {run: read(run(command)) for run in runs}
        ratios.append(times[_tapped] / times[_plain])
    return float(np.median(ratios)), min(ratios), max(ratios)


def idle_demo() -> Iterator[Row]:
    command = [sys.executable, "-m", "wendascope.demo", "--off-screen", "--size", "160x90", "--frames", "40", "--times"]
    median, low, high = ratio_of(command, lambda text: float(re.search(r"([\d.]+) ms a frame", text)[1]))  # type: ignore[index]
    yield (
        "tap idle, demo program (17,000 calls a frame), with/without",
        f"{median:.3f} ({low:.3f} to {high:.3f})",
        "<= 1.02",
    )


def idle_heavy() -> Iterator[Row]:
    """Nothing but calls: the cost of a wrapper cannot hide behind work."""
    command = [heavy(), "20000", "100"]
    median, low, high = ratio_of(command, lambda text: float(re.search(r"([\d.]+) ms a frame", text)[1]), 31)  # type: ignore[index]
    yield "tap idle, 20,000 calls a frame, with/without", f"{median:.3f} ({low:.3f} to {high:.3f})", "<= 1.02"


def held() -> Iterator[Row]:
    """How long the target is held, by what it has."""
    for objects, megabytes, bar in ((2000, 0, "<= 1 s"), (0, 100, "<= 1 s")):
        with Target([heavy(), "2000", "0", str(objects), str(megabytes)]) as target:
            seconds = [target.capture(Trigger(after_seconds=0.3), 60.0).metadata.held_seconds for _ in range(5)]
        what = f"{objects:,} objects" if objects else f"{megabytes} MB of textures"
        yield (
            f"target held for its snapshot, {what}",
            f"{np.median(seconds):.2f} s ({min(seconds):.2f} to {max(seconds):.2f})",
            bar,
        )


def large_frame() -> Iterator[Row]:
    """From the request to the finished file, and the frame's own slowdown."""
    seconds, ratios = [], []
    with Target([heavy(), "50000"]) as target, tempfile.TemporaryDirectory() as folder:
        for number in range(5):
            target.arm(Trigger(after_seconds=1e9))
            until = time.monotonic() + 1.0
            while time.monotonic() < until:
                target.poll(0.05)
            begin = time.monotonic()
            frame = target.capture(Trigger(frame=1), 60.0)
            save(frame, Path(folder) / f"{number}.wend")
            seconds.append(time.monotonic() - begin)
            assert frame.target_frame_ms is not None and frame.call_count >= 50000
            ratios.append(frame.metadata.recorded_ns / 1e6 / frame.target_frame_ms)
    yield (
        "50,000 calls, request to finished file",
        f"{np.median(seconds):.2f} s ({min(seconds):.2f} to {max(seconds):.2f})",
        "<= 5 s",
    )
    yield (
        "frame being recorded / ordinary frame (50,000 calls)",
        f"{np.median(ratios):.2f} ({min(ratios):.2f} to {max(ratios):.2f})",
        "<= 2",
    )


def memory() -> Iterator[Row]:
    """Resident memory of a target with the tap idle, less without."""

    def resident(pid: int) -> float:
        time.sleep(2.0)
        text = Path(f"/proc/{pid}/status").read_text()
        return int(re.search(r"VmRSS:\s+(\d+)", text)[1]) / 1024  # type: ignore[index]

    command = [heavy(), "20000", "0", "2000"]
    with Target(command) as target:
        target.connect(Trigger(after_seconds=1e9), 60.0)
        with_tap = resident(target.process.pid)
    plain = subprocess.Popen(command)
    without = resident(plain.pid)
    plain.kill()
    plain.wait()
    yield "memory of the idle tap (2,000 objects)", f"{with_tap - without:.1f} MB", "<= 64 MB and the journal"


def idle_glmark2() -> Iterator[Row]:
    command = [
        "glmark2",
        "--off-screen",
        "-s",
        "200x150",
        "-b",
        "build:use-vbo=true:duration=3.0",
        "-b",
        "buffer:duration=3.0",
    ]

    def read(text: str) -> float:
        return sum(float(t) for t in re.findall(r"FrameTime: ([\d.]+) ms", text))

    median, low, high = ratio_of(command, read)
    yield "tap idle, glmark2 build and buffer, with/without", f"{median:.3f} ({low:.3f} to {high:.3f})", "<= 1.02"


def recording() -> Iterator[Row]:
    """A frame while it is recorded, against ordinary frames of the same run."""
    command = [sys.executable, "-m", "wendascope.demo", "--off-screen", "--size", "160x90", "--frames", "1000"]
    ratios, held = [], []
    with Target(command) as target:
        for _ in range(7):
            frame = opengl_frame(target.capture(Trigger(after_seconds=0.5), 60.0))
            assert frame.target_frame_ms is not None
            ratios.append(frame.metadata.recorded_ns / 1e6 / frame.target_frame_ms)
            held.append(frame.metadata.held_seconds)
    yield (
        "frame being recorded / ordinary frame (demo program)",
        f"{np.median(ratios):.2f} ({min(ratios):.2f} to {max(ratios):.2f})",
        "<= 2",
    )
    objects = sum(len(getattr(frame.objects, name)) for name in frame.objects.__struct_fields__)
    yield f"target held for its snapshot ({objects} objects)", f"{np.median(held):.2f} s", "<= 1 s for 2,000 objects"


BENCHMARKS = {
    "idle-heavy": idle_heavy,
    "held": held,
    "large-frame": large_frame,
    "memory": memory,
    "idle-demo": idle_demo,
    "idle-glmark2": idle_glmark2,
    "recording": recording,
}
