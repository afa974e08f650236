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
from wendascope.frame.file import save
from wendascope.frame.frame import Frame
from wendascope.tap.launch import Target, Trigger
from wendascope.trials.proofs.proof import stored_proofs
from wendascope.trials.proofs.verdicts import Verdict

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


def capture_setts(path: Path) -> Frame:
    """Capture a frame of 100,489 draws."""
    with tempfile.TemporaryDirectory() as folder:
        program, source = Path(folder) / "setts", Path(__file__).with_name("setts.c")
        libraries = ["-l:libEGL.so.1", "-l:libOpenGL.so.0", "-lm"]
        subprocess.run(["gcc", "-O2", str(source), "-o", str(program), *libraries], check=True)
        with Target([str(program), "317"]) as target:
            frame = target.capture(Trigger(frame=2), 120.0)
    save(frame, path)
    return frame


def setts() -> Iterator[Row]:
    """A yard of a hundred thousand setts, each with a draw of its own."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "setts.wend"
        frame = capture_setts(path)
        whole, log = _command("survey", str(path)), records.STAGES.newest(path)
        assert log is not None
        timed = next(end.seconds for end in log.stages if end.name == "times")
        yield "100,489 draws: verified and timed", f"{timed:.1f} s", "<= 40 s"
        yield "100,489 draws: whole survey, with its start", f"{whole:.1f} s", "<= 150 s"
        yield "100,489 draws: plan proved", f"{_command('plan', str(path), '--prove'):.1f} s", ""
        proofs = stored_proofs(path).values()
        fewest = min((p.steps_after for p in proofs if p.verdict == Verdict.SAVES), default=len(frame.steps))
        yield "100,489 draws: fewest steps proved, of 100,490", f"{fewest:,}", "2"
    most = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / (1 << 20)
    yield "100,489 draws: most memory of any process so far", f"{most:.2f} GB", "<= 2 GB"


def demo() -> Iterator[Row]:
    yield from _surveyed("demo", DEMO)


def yard() -> Iterator[Row]:
    yield from _surveyed("yard", _YARD)


BENCHMARKS: dict[str, Callable[[], Iterator[Row]]] = {"survey-demo": demo, "survey-yard": yard, "survey-setts": setts}
