"""Captures programs that nobody here wrote, each at three frames, and prints how each capture replays.

    python tools/program_matrix.py [words...]     only programs whose name contains a word

Needs a display; `xvfb-run` makes one.
"""

from __future__ import annotations

import re
import subprocess
import sys
import tempfile
import time
from dataclasses import dataclass
from pathlib import Path

from wendascope.errors import WendascopeError
from wendascope.frame.file import save
from wendascope.replay.client import Replay
from wendascope.tap.channel import Boundary
from wendascope.tap.launch import Target, Trigger

TESTS = Path(__file__).parent.parent / "tests" / "programs"
FRAMES = (2, 15, 40)


@dataclass(frozen=True)
class Program:
    name: str
    command: tuple[str, ...]
    boundary: Boundary = Boundary.swap


def programs() -> list[Program]:
    """Everything that is installed here."""
    found = [Program("glxgears", ("glxgears",))]
    listed = subprocess.run(["glmark2", "--list-scenes"], capture_output=True, text=True, check=False).stdout
    for scene in re.findall(r"\[Scene\] (\S+)", listed):
        if scene not in ("default", "loop"):
            found.append(Program(f"glmark2 {scene}", ("glmark2", "-s", "400x300", "-b", f"{scene}:duration=60.0")))
    for path in sorted(TESTS.glob("[!_]*.py")):
        boundary = Boundary.readback if "readback" in path.stem else Boundary.swap
        found.append(Program(path.stem, (sys.executable, str(path), *(["--frames", "100000"] if path.stem == "shapes" else [])), boundary))
    return found


def row(program: Program, number: int, folder: Path) -> str:
    path = folder / "frame.wend"
    try:
        started = time.monotonic()
        with Target(program.command) as target:
            frame = target.capture(Trigger(frame=number, boundary=program.boundary), 40.0)
        save(frame, path)
        taken = time.monotonic() - started
        with Replay(path) as replay:
            result = replay.run("measure.pictures", "verify")
    except WendascopeError as error:
        return f"{program.name:<24} {number:>4}  {str(error)[:110]}"
    same = "all" if result["identical"] else f"{result['pixels_different']} differ by {result['max_difference']}"
    caveats = "; ".join(result["caveats"]) or "none"
    return (
        f"{program.name:<24} {number:>4}  {frame.context!s:<26} {len(frame.calls):>6} {len(frame.steps):>6} {taken:>7.2f} "
        f"{frame.metadata.held_seconds:>6.2f} {path.stat().st_size / 1024:>8.0f}  {same:<26} {caveats}"
    )


def main() -> None:
    words = sys.argv[1:]
    print(f"{'program':<24} {'at':>4}  {'API':<26} {'calls':>6} {'steps':>6} {'s':>7} {'held':>6} {'KB':>8}  {'pixels identical':<26} caveats")
    with tempfile.TemporaryDirectory() as folder:
        for program in programs():
            if not words or any(word in program.name for word in words):
                for number in FRAMES:
                    print(row(program, number, Path(folder)), flush=True)


if __name__ == "__main__":
    main()
