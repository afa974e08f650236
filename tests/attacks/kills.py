"""Sudden deaths: of the process that captures, at any moment, beside targets of one and of four threads; and of the
target.
"""

from __future__ import annotations

import os
import random
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from tests.attacks import Tally

SOURCE = Path(__file__).parent.parent / "programs" / "threads.c"
FRAMES = 300
_LONGEST_SECONDS = 60.0

# Captures again and again until it is killed.
CAPTURING = """
import sys
from pathlib import Path
from wendascope.frame.file import save
from wendascope.tap.launch import Target, Trigger
from wendascope.tap.channel import FrameEnd
with Target(sys.argv[2:]) as target:
    print("started", flush=True)
    number = 0
    while True:
        number += 1
        frame = target.capture(Trigger(frame=1), 30.0)
        save(frame, Path(sys.argv[1]) / "frame.wend")
        print("captured", flush=True)
"""


def program(folder: Path) -> Path:
    """The multi-threaded target, compiled. Raises CalledProcessError."""
    made = folder / "threads"
    subprocess.run(["gcc", "-O1", "-o", str(made), str(SOURCE), "-ldl", "-lpthread"], check=True)
    return made


def _expected(target: Path, threads: int, folder: Path) -> str:
    out = folder / f"alone-{threads}"
    subprocess.run([str(target), str(threads), str(FRAMES), str(out)], check=True, timeout=_LONGEST_SECONDS)
    return out.read_text()


def _wait(path: Path) -> str:
    until = time.monotonic() + _LONGEST_SECONDS
    while time.monotonic() < until:
        if path.exists() and path.read_text():
            return path.read_text()
        time.sleep(0.02)
    return ""


def _left_behind(runtime: Path, folder: Path) -> list[str]:
    """What the next start does not sweep: folders of dead owners, half files."""
    from wendascope.files import sweep, whole_file

    sweep(runtime)
    with whole_file(folder / "frame.wend") as scratch:
        scratch.write_bytes(b"")
    return [p.name for p in runtime.iterdir()] + [p.name for p in folder.iterdir() if p.name.endswith(".partial")]


def kill_the_capture(tries: int, threads: int, folder: Path, seed: int = 1) -> Tally:
    """The target draws to its end as one that nobody watched, and nothing is left."""
    tally, chance = Tally(), random.Random(seed)
    target = program(folder)
    expected = _expected(target, threads, folder)
    for number in range(tries):
        with (
            tempfile.TemporaryDirectory(dir=folder) as own,
            tempfile.TemporaryDirectory(prefix="r", dir="/tmp") as runtime,
        ):
            out = Path(own) / "out"
            environment = {**os.environ, "XDG_RUNTIME_DIR": runtime, "TMPDIR": runtime}
            command = [sys.executable, "-c", CAPTURING, own, str(target), str(threads), str(FRAMES), str(out)]
            capturing = subprocess.Popen(command, env=environment, stdout=subprocess.PIPE, stderr=subprocess.PIPE)
            assert capturing.stdout is not None
            capturing.stdout.readline()
            time.sleep(chance.uniform(0.0, 0.9))
            capturing.send_signal(signal.SIGKILL)
            capturing.communicate()
            if (seen := _wait(out)) != expected:
                tally.harmed(
                    f"try {number} of {threads} threads: the target"
                    f" {'drew something else' if seen else 'never finished'}"
                )
            elif left := _left_behind(Path(runtime), Path(own)):
                tally.harmed(f"try {number} of {threads} threads: left behind {left}")
            else:
                tally.note("targets drew on to their end")
    return tally


def kill_the_target(tries: int, threads: int, folder: Path, seed: int = 2) -> Tally:
    """The capture says so in one line with its exit code, and leaves no half file."""
    tally, chance = Tally(), random.Random(seed)
    target = program(folder)
    for number in range(tries):
        with (
            tempfile.TemporaryDirectory(dir=folder) as own,
            tempfile.TemporaryDirectory(prefix="r", dir="/tmp") as runtime,
        ):
            environment = {**os.environ, "XDG_RUNTIME_DIR": runtime, "TMPDIR": runtime}
            out = Path(own) / "frame.wend"
            command = [
                sys.executable,
                "-m",
                "wendascope.cli",
                "capture",
                "--frames",
                "200",
                "--frame",
                "1",
                "--out",
                str(out),
                "--",
                str(target),
                str(threads),
                "5000",
                str(Path(own) / "out"),
            ]
            capturing = subprocess.Popen(
                command, env=environment, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True
            )
            moment = time.monotonic() + chance.uniform(0.4, 2.0)
            while capturing.poll() is None and (
                time.monotonic() < moment or not _kill(f"^{target} {threads} 5000 {own}/out")
            ):
                time.sleep(0.02)  # it may not have started yet
            try:
                _, said = capturing.communicate(timeout=_LONGEST_SECONDS)
            except subprocess.TimeoutExpired:
                capturing.kill()
                capturing.communicate()
                tally.harmed(f"try {number} of {threads} threads: the capture hangs")
                continue
            left = [p.name for p in Path(own).iterdir() if p.name.endswith(".partial")]
            left += [p.name for p in Path(runtime).iterdir()]
            if capturing.returncode not in (0, 4) or "Traceback" in said:
                tally.harmed(f"try {number} of {threads} threads: exit code {capturing.returncode}: {said[-300:]}")
            elif left:
                tally.harmed(f"try {number} of {threads} threads: left behind {left}")
            else:
                tally.note("captures ended in one line" if capturing.returncode else "captures had ended")
    return tally


def _kill(pattern: str) -> bool:
    return subprocess.run(["pkill", "-KILL", "-f", pattern], check=False).returncode == 0


_CLIENT = """
import sys
from pathlib import Path
from wendascope.measure.pictures import verify
from wendascope.replay.client import Replay
replay = Replay(Path(sys.argv[1]))
replay._start()
print(replay._process.pid, flush=True)
while True:
    replay.run(verify.asked())
"""


def kill_the_client(tries: int, file: Path, seed: int = 3, longest: float = 1.0) -> Tally:
    """A replay process ends within a second of its client, whatever it is doing."""
    tally, chance = Tally(), random.Random(seed)
    for number in range(tries):
        client = subprocess.Popen(
            [sys.executable, "-c", _CLIENT, str(file)], stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True
        )
        assert client.stdout is not None
        worker = int(client.stdout.readline())
        time.sleep(chance.uniform(0.4, 2.0))
        client.send_signal(chance.choice((signal.SIGKILL, signal.SIGSEGV, signal.SIGTERM)))
        client.wait()
        until = time.monotonic() + longest
        while alive(worker) and time.monotonic() < until:
            time.sleep(0.02)
        if alive(worker):
            os.kill(worker, signal.SIGKILL)
            tally.harmed(f"try {number}: the replay process ran on")
        else:
            tally.note("replay processes ended with their client")
    return tally


def alive(process: int) -> bool:
    try:
        state = Path(f"/proc/{process}/stat").read_text().rsplit(")", 1)[1].split()[0]
    except OSError:
        return False
    return state not in ("Z", "X")
