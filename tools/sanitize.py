"""Builds the tap with a sanitizer and runs a multi-threaded program under it, alone and while frames are captured
and the capturing process is killed: `python tools/sanitize.py [thread] [address] [undefined] [--captures N]`.

Prints every report that names the tap's own code, and exits 1 when there is one. `make sanitize` runs all three.
"""

from __future__ import annotations

import argparse
import ctypes
import os
import re
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent))

from wendascope.registry.build import build

PROGRAM = Path(__file__).parent.parent / "tests" / "programs" / "threads.c"
RUNTIMES = {"thread": "libtsan.so", "address": "libasan.so", "undefined": "libubsan.so"}
OURS = re.compile(r"tap/native/|generated_\w+\.c|libwendatap")
THREADS, FRAMES = 4, 400
NO_RANDOM_ADDRESSES = 0x0040000

# Captures once, or dies at a moment of its own while it does.
CAPTURING = """
import os, signal, sys, threading, time
import wendascope.tap.launch as launch
launch.native_library = lambda: sys.argv[1]
dies_after = float(sys.argv[2])
if dies_after > 0:
    threading.Thread(target=lambda: (time.sleep(dies_after), os.kill(os.getpid(), signal.SIGKILL)), daemon=True).start()
with launch.Target(sys.argv[3:]) as target:
    target.capture(launch.Trigger(frame=20), 60.0)
    target.capture(launch.Trigger(frame=1), 60.0)
    target.let_go()
    print(target.process.wait(120))
"""


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("sanitizers", nargs="*", default=[])
    parser.add_argument("--captures", type=int, default=6)
    arguments = parser.parse_args()
    ctypes.CDLL(None).personality(
        NO_RANDOM_ADDRESSES
    )  # the thread sanitizer wants its memory where it is; children inherit it
    reports = 0
    for name in arguments.sanitizers or list(RUNTIMES):
        with tempfile.TemporaryDirectory() as folder:
            reports += examine(name, Path(folder), arguments.captures)
    return 1 if reports else 0


def examine(name: str, folder: Path, captures: int) -> int:
    flags = [
        f"-fsanitize={name}",
        "-g",
        "-O1",
        "-fno-omit-frame-pointer",
        *(["-fno-sanitize=alignment"] if name == "undefined" else []),
    ]
    library = build(folder / "built", flags)
    program = folder / "threads"
    subprocess.run(["gcc", *flags, "-o", str(program), str(PROGRAM), "-ldl", "-lpthread"], check=True)
    runtime = subprocess.run(
        ["gcc", f"-print-file-name={RUNTIMES[name]}"], capture_output=True, text=True, check=True
    ).stdout.strip()
    log = folder / "log"
    environment = {
        **os.environ,
        "TSAN_OPTIONS": f"log_path={log} exitcode=0 report_signal_unsafe=0 history_size=4",
        "ASAN_OPTIONS": f"log_path={log} exitcode=0 detect_leaks=0 verify_asan_link_order=0",
        "UBSAN_OPTIONS": f"log_path={log} print_stacktrace=1",
    }
    command = [str(program), str(THREADS), str(FRAMES), str(folder / "out")]
    ended = [subprocess.run(command, env={**environment, "LD_PRELOAD": f"{runtime}:{library}"}, timeout=300).returncode]
    for number in range(captures):
        dies = 0.0 if number % 3 == 0 else 0.6 + 0.17 * number
        done = subprocess.run(
            [sys.executable, "-c", CAPTURING, f"{runtime}:{library}", str(dies), *command],
            env=environment,
            capture_output=True,
            text=True,
            timeout=300,
        )
        ended.append(int(done.stdout.strip() or -1) if not dies else 0)
        if not dies and ended[-1]:
            print(done.stderr[-600:])
        if dies and done.returncode not in (0, -signal.SIGKILL):
            print(f"the capturing process ended with {done.returncode}: {done.stderr[-300:]}")
    wait_for(program)
    reports = [r for path in folder.glob("log*") for r in split(path.read_text(errors="replace")) if is_ours(r)]
    for report in dict.fromkeys(re.sub(r"0x[0-9a-f]+|pid=\d+|tid=\d+", "", r) for r in reports):
        print(report)
    print(f"{name}: {len(ended)} runs, exit codes {sorted(set(ended))}, {len(reports)} reports that name the tap")
    return len(reports) + sum(code != 0 for code in ended)


def split(text: str) -> list[str]:
    return (
        [part for part in re.split(r"={18,}\n", text) if part.strip()]
        if "====" in text
        else [line for line in text.splitlines() if "runtime error" in line]
    )


def is_ours(report: str) -> bool:
    """Whether one of the accesses was made by the tap itself, and not further in by a driver that is not built with
    the sanitizer.
    """
    if "runtime error" in report:
        return bool(OURS.search(report))
    accesses = re.split(r"Location is|Mutex M|As if synchronized via sleep", report)[0]
    stacks = re.split(r"\n\s*\n", accesses)
    for stack in stacks:
        frames = [line for line in stack.splitlines() if re.match(r"\s+#\d+ ", line)]
        first = next((f for f in frames if "libsanitizer" not in f and "libtsan" not in f and "libasan" not in f), "")
        if OURS.search(first):
            return True
    return False


def wait_for(program: Path) -> None:
    """Targets of killed captures go on by themselves until they are done."""
    until = time.monotonic() + 120
    while (
        time.monotonic() < until and subprocess.run(["pgrep", "-f", str(program)], capture_output=True).returncode == 0
    ):
        time.sleep(0.2)


if __name__ == "__main__":
    sys.exit(main())
