"""The target runs on unharmed when Wendascope is killed, at whatever moment of a capture."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

from tests.conftest import program

pytestmark = pytest.mark.driver

FRAMES = 300

# Each stage is a point at which Wendascope kills itself without a word.
HARNESS = """
import os, signal, sys
from wendascope.backends.opengl.calls.packed import CallBatch
from wendascope.registry import GL
from wendascope.tap.channel import Channel, MessageKind
from wendascope.tap.launch import Target, Trigger
from wendascope.task import QUIET
stage, command = sys.argv[1], sys.argv[2:]
die = lambda: os.kill(os.getpid(), signal.SIGKILL)
target = Target(command)
if stage == "after start":
    die()
target.connect(Trigger(frame=20), 30.0)
if stage == "after hello":
    die()
paused = target._wait_paused(Trigger(frame=20), 30.0, QUIET)
if stage == "held":
    die()
runs = [0]
real = Channel.run
def run(self, batch):
    real(self, batch)
    runs[0] += 1
    if stage == "during snapshot" and runs[0] == 12:
        die()
    if stage == "late in snapshot" and runs[0] == 25:
        die()
Channel.run = run
from wendascope.tap.take import begin_taking
begin_taking(target.channel, paused)
if stage == "batch under way":
    batch = CallBatch()
    for _ in range(2000):
        batch.call("glIsEnabled", GL.BLEND)
    Channel.expect = lambda *_: die()
    real(target.channel, batch)
target.channel.send(MessageKind.RECORD)
if stage == "recording":
    die()
target.channel.expect(MessageKind.RECORDED, 30.0)
if stage == "recorded":
    die()
raise SystemExit("no such stage: " + stage)
"""


def undisturbed(folder: Path) -> str:
    out = folder / "alone.txt"
    subprocess.run(program("shapes", "--frames", str(FRAMES), "--out", str(out)), check=True, timeout=60)
    return out.read_text()


@pytest.fixture(scope="module")
def expected(tmp_path_factory: pytest.TempPathFactory) -> str:
    return undisturbed(tmp_path_factory.mktemp("alone"))


def wait_for(path: Path, seconds: float) -> str:
    end = time.monotonic() + seconds
    while not path.exists():
        assert time.monotonic() < end, "the target did not finish"
        time.sleep(0.05)
    return path.read_text()


STAGES = [
    "after start",
    "after hello",
    "held",
    "during snapshot",
    "late in snapshot",
    "batch under way",
    "recording",
    "recorded",
]


@pytest.mark.parametrize("stage", STAGES)
def test_killed_at(stage: str, expected: str, tmp_path: Path) -> None:
    """The target's last picture and its GL errors are those of a run that nobody watched."""
    out = tmp_path / "watched.txt"
    command = program("shapes", "--frames", str(FRAMES), "--out", str(out))
    harness = subprocess.run(
        [sys.executable, "-c", HARNESS, stage, *command], capture_output=True, text=True, timeout=60
    )
    assert harness.returncode == -signal.SIGKILL, harness.stderr
    assert wait_for(out, 60) == expected


def test_a_whole_capture_leaves_no_trace(expected: str, tmp_path: Path) -> None:
    from wendascope.tap.launch import Target, Trigger

    out = tmp_path / "watched.txt"
    with Target(program("shapes", "--frames", str(FRAMES), "--out", str(out))) as target:
        target.capture(Trigger(frame=20))
        target.capture(Trigger(frame=60))
        assert wait_for(out, 60) == expected


def test_children_of_a_target_run_on(tmp_path: Path) -> None:
    """A target that forks, and a child that draws on its own, are left in peace."""
    from wendascope.tap.launch import Target, Trigger

    out = tmp_path / "child.txt"
    child = program("shapes", "--frames", "30", "--out", str(out))
    code = (
        f"import subprocess, os, time; subprocess.run({child!r}, check=True); pid = os.fork(); os._exit(0) if pid == 0"
        " else os.waitpid(pid, 0); time.sleep(0.5)"
    )
    with Target([sys.executable, "-c", code]) as target:
        frame = target.capture(Trigger(frame=3))
        assert len(frame.steps) == 22
        wait_for(out, 30)


def test_without_wendascope_the_tap_is_silent(tmp_path: Path) -> None:
    """The library alone, with nobody listening, changes nothing."""
    from wendascope.registry import native_library

    out = tmp_path / "alone.txt"
    environment = {**os.environ, "LD_PRELOAD": str(native_library()), "WENDASCOPE_SOCKET": str(tmp_path / "nobody")}
    subprocess.run(program("shapes", "--frames", "30", "--out", str(out)), check=True, timeout=60, env=environment)
    plain = tmp_path / "plain.txt"
    subprocess.run(program("shapes", "--frames", "30", "--out", str(plain)), check=True, timeout=60)
    assert out.read_text() == plain.read_text()
