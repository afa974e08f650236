"""All attacks by name, each with how often it is tried as a whole; the test run tries a tenth."""

from __future__ import annotations

import os
import random
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path

from tests.attacks import Tally, damaged, hostile, kills, messages, odd_targets
from tests.attacks.running import run_on
from tests.conftest import PROGRAMS
from wendascope.frame.file import save
from wendascope.tap.launch import Target, Trigger

Attack = Callable[[int, Path, list[Path]], Tally]
"""Takes how often, a folder of its own, and captured frames that it may read."""


def captured(folder: Path) -> list[Path]:
    """Small frames of three programs of ours, to be damaged."""
    files = []
    for name, arguments in (("shapes", ["--frames", "400"]), ("stages", []), ("indirect", [])):
        with Target([sys.executable, str(PROGRAMS / f"{name}.py"), *arguments]) as target:
            frame = target.capture(Trigger(frame=5), 60.0)
        files.append(folder / f"{name}.wend")
        save(frame, files[-1])
    return files


def _damaged(tries: int, folder: Path, files: list[Path]) -> Tally:
    return damaged.attack(files, tries, folder)[0]


def _run_on(tries: int, folder: Path, files: list[Path]) -> Tally:
    """Damaged files that open are used on."""
    tally = Tally()
    _, opened = damaged.attack(files, tries * 60, folder, seed=8, keep=tries)
    for path in opened[:tries]:
        run_on(path, tally, path.name)
    return tally


def _hostile(tries: int, folder: Path, files: list[Path]) -> Tally:
    names = list(hostile.all_hostile())
    if tries < len(names):  # always the same ones, some of each kind
        names = random.Random(1).sample(names, tries)
    return hostile.attack(files[0], names, folder)


def _session(tries: int, folder: Path, files: list[Path]) -> Tally:
    target = kills.program(folder)
    command = [
        sys.executable,
        "-m",
        "wendascope.cli",
        "capture",
        "--listen",
        "attacked",
        "--out",
        str(folder),
        "--",
        str(target),
        "1",
        "1000000",
        str(folder / "out"),
    ]
    session = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, env=dict(os.environ))
    try:
        from wendascope.tap.sessions import listening

        until = time.monotonic() + 30
        while "attacked" not in listening() and time.monotonic() < until:
            time.sleep(0.05)
        tally = messages.to_a_session(tries, "attacked")
        if session.poll() is not None:
            tally.harmed(f"the capture session ended with {session.returncode}")
        return tally
    finally:
        session.terminate()
        subprocess.run(["pkill", "-KILL", "-f", f"^{target} "], check=False)
        session.wait(10)


ATTACKS: dict[str, tuple[int, Attack]] = {
    "damaged files": (20_000, _damaged),
    "damaged files, used on": (50, _run_on),
    "hostile files": (len(hostile.all_hostile()), _hostile),
    "kills of a capture, one thread": (100, lambda tries, folder, _: kills.kill_the_capture(tries, 1, folder)),
    "kills of a capture, four threads": (100, lambda tries, folder, _: kills.kill_the_capture(tries, 4, folder)),
    "kills of a target, one thread": (100, lambda tries, folder, _: kills.kill_the_target(tries, 1, folder)),
    "kills of a target, four threads": (100, lambda tries, folder, _: kills.kill_the_target(tries, 4, folder)),
    "kills of a replay's client": (100, lambda tries, _, files: kills.kill_the_client(tries, files[0])),
    "odd targets": (len(odd_targets.modes()), lambda tries, folder, _: odd_targets.attack(tries, folder)),
    "messages to a tap": (2500, lambda tries, folder, _: messages.to_the_tap(tries, folder)),
    "messages from a target": (2500, lambda tries, _folder, _files: messages.from_a_target(tries)),
    "messages to a capture session": (2500, _session),
    "messages from a capture session": (2500, lambda tries, _folder, _files: messages.from_a_session(tries)),
}
