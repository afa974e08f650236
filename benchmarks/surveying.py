"""How long a frame takes to be surveyed and planned, in its own frame times, and what that needs of memory."""

from __future__ import annotations

import resource
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Callable, Iterator
from pathlib import Path

from benchmarks.replaying import DEMO, Row
from wendascope import records

_YARD = DEMO.parent / "signal-box.wend"


def _command(*arguments: str) -> float:
    """Seconds that a command of ours takes."""
    done = subprocess.run(
        [sys.executable, "-c", _TIMED, *arguments], capture_output=True, text=True, check=True, stdin=subprocess.DEVNULL
    )
    return float(done.stdout.splitlines()[-1])


_TIMED = """
import subprocess, sys, time
began = time.monotonic()
code = subprocess.run([sys.executable, "-m", "wendascope.cli", *sys.argv[1:]], capture_output=True).returncode
assert code in (0, 1), code
print(time.monotonic() - began)
"""


def _surveyed(name: str, shipped: Path) -> Iterator[Row]:
    with tempfile.TemporaryDirectory() as folder:
        path = Path(shutil.copy(shipped, Path(folder) / "frame.wend"))
        whole = _command("survey", str(path))
        survey, log = records.SURVEY.newest(path), records.STAGES.newest(path)
        assert survey is not None and log is not None
        frame = survey.frame_ms.median / 1000
        until, by = 0.0, dict[str, float]()
        for end in log.stages:
            until += end.seconds
            by[end.name] = until

        def row(what: str, seconds: float, frames: int, more: float) -> Row:
            bar = frames * frame + more
            return f"{name}: {what}", f"{seconds:.1f} s, {seconds / frame:.0f} frame times", f"<= {bar:.1f} s"

        yield row("verified and timed", by["times"], 15, 3)
        yield row("first recommendations", by["first rules"], 40, 5)
        yield row("whole survey, with its start", whole, 80, 10)
        planned = _command("plan", str(path), "--prove")
        yield f"{name}: plan proved", f"{planned:.1f} s, {planned / frame:.0f} frame times", "<= 150 frame times"
    most = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / (1 << 20)
    yield f"{name}: most memory of any process so far", f"{most:.2f} GB", "<= 2 GB"


def demo() -> Iterator[Row]:
    yield from _surveyed("demo", DEMO)


def yard() -> Iterator[Row]:
    yield from _surveyed("yard", _YARD)


BENCHMARKS: dict[str, Callable[[], Iterator[Row]]] = {"survey-demo": demo, "survey-yard": yard}
