"""Programs that do what few programs do: each must end as it does alone, and draw the same, whatever is taken of it."""

from __future__ import annotations

import contextlib
import functools
import os
import re
import subprocess
import tempfile
import time
from dataclasses import dataclass
from pathlib import Path

from tests.attacks import Tally
from wendascope.errors import TargetError
from wendascope.tap.launch import Target, Trigger

SOURCE = Path(__file__).parent.parent / "programs" / "odd.c"
FRAMES = 160
_LONGEST_SECONDS, _NOT_ALLOWED = 40.0, 77

NOT_TAKEN = {
    "exec-bare": "before",
    "confined-refusing": "before",
    "reload-between": "context",
    "thread-cancelled": "thread",
    "little-memory": "memory",
    "no-memory-a-while": "memory",
    "little-data": "memory",
    "no-files": "files",
    "no-file-size": "large",
    "confined-killing": "within",
    "confined-killing-directly": "within",
    "confined-trapping": "within",
}
"""Modes of which no frame can be taken after the odd thing is done, and a word of the reason that is told."""


PERHAPS_TAKEN = {"thread-cancelled", "little-memory", "no-memory-a-while", "little-data"}
"""Of these, those with which it depends on the moment, or on what the allocator has left."""


@dataclass(frozen=True)
class Outcome:
    """How a run ended: as the one of a program alone, or another."""

    code: int | None
    """None of a child that nobody waits for."""
    seen: str


@dataclass(frozen=True)
class Watched:
    """A run under the tap."""

    outcome: Outcome
    taken: bool
    said: str
    """Why nothing was taken."""


@functools.cache
def built(folder: Path) -> Path:
    """The program, compiled. Raises CalledProcessError."""
    made = folder / "odd"
    subprocess.run(["gcc", "-O1", "-w", "-o", str(made), str(SOURCE), "-ldl", "-lpthread"], check=True)
    folder.chmod(0o777)
    return made


def modes() -> list[str]:
    """Names of all that it can do."""
    return [mode for mode in _all_modes() if mode != "draw-and-sleep"]  # that one is for sessions


def _all_modes() -> list[str]:
    return re.findall(r'^    \{"([a-z-]+)",', SOURCE.read_text(), re.MULTILINE)


def _command(program: Path, mode: str, out: Path) -> list[str]:
    return [str(program), mode, str(FRAMES), str(out)]


def _seen(out: Path, mode: str, code: int | None) -> str:
    """What it wrote; of one that leaves a child behind, waited for."""
    until = time.monotonic() + (_LONGEST_SECONDS if mode.startswith("daemonize") and code == 0 else 0)
    while not out.exists() and time.monotonic() < until:
        time.sleep(0.02)
    return out.read_text() if out.exists() else ""


def _place() -> tempfile.TemporaryDirectory[str]:
    return tempfile.TemporaryDirectory(prefix="odd-", dir="/tmp")


def alone(program: Path, mode: str) -> Outcome:
    with _place() as folder:
        Path(folder).chmod(0o777)
        out = Path(folder) / "out"
        run = subprocess.run(
            _command(program, mode, out),
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
            check=False,
            cwd=folder,
            timeout=_LONGEST_SECONDS,
        )
        return Outcome(run.returncode, _seen(out, mode, run.returncode))


def watched(program: Path, mode: str) -> Watched:
    """A frame is asked for from the middle on, after the odd thing; then the program is let go."""
    with _place() as folder:
        Path(folder).chmod(0o777)
        out, taken, said = Path(folder) / "out", False, ""
        environment = {**os.environ, "TMPDIR": folder}
        with Target(_command(program, mode, out), folder=Path(folder), environment=environment) as target:
            try:
                frame = target.capture(Trigger(frame=FRAMES // 2 + 6), 12.0)
                taken = frame.call_count > 5 and frame.reference is not None
            except TargetError as error:
                said = str(error)
            target.let_go()
            code: int | None = None
            with contextlib.suppress(subprocess.TimeoutExpired):
                code = target.process.wait(_LONGEST_SECONDS)
        return Watched(Outcome(code, _seen(out, mode, code)), taken, said)


def judge(program: Path, mode: str) -> str:
    """What is wrong with a mode; nothing where all is as it should be, `not allowed` where it cannot be tried here."""
    expected = alone(program, mode)
    if expected.code == _NOT_ALLOWED:
        return "not allowed"
    found = watched(program, mode)
    if found.outcome != expected:
        return f"{mode}: {found.outcome} instead of {expected}"
    if mode.startswith("end-"):
        return "" if not found.taken else f"{mode}: taken after its end"
    if mode in PERHAPS_TAKEN and found.taken:
        return ""
    if mode in NOT_TAKEN:
        return "" if not found.taken and NOT_TAKEN[mode] in found.said else f"{mode}: not taken because: {found.said}"
    return "" if found.taken else f"{mode}: not taken: {found.said}"


def attack(tries: int, folder: Path) -> Tally:
    tally = Tally()
    program = built(folder)
    for mode in modes()[:tries]:
        wrong = judge(program, mode)
        if wrong == "not allowed":
            tally.note("not allowed here")
        elif wrong:
            tally.harmed(wrong)
        else:
            tally.note("went on unharmed")
    return tally
