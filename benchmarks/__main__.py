"""Runs benchmarks and prints a row for each: what, figure, bar."""

from __future__ import annotations

import contextlib
import os
import shutil
import subprocess
import sys
from collections.abc import Iterator

from benchmarks import applied, drawing, memory, over_time, planning, proving, replaying, shading, studying, tap, window

ALL = {
    **tap.BENCHMARKS,
    **replaying.BENCHMARKS,
    **window.BENCHMARKS,
    **drawing.BENCHMARKS,
    **studying.BENCHMARKS,
    **shading.BENCHMARKS,
    **proving.BENCHMARKS,
    **planning.BENCHMARKS,
    **over_time.BENCHMARKS,
    **memory.BENCHMARKS,
    **applied.BENCHMARKS,
}


@contextlib.contextmanager
def display() -> Iterator[None]:
    """A display of our own where there is none: some programs draw into windows."""
    if os.environ.get("DISPLAY") or shutil.which("Xvfb") is None:
        yield
        return
    read, write = os.pipe()
    command = ["Xvfb", "-displayfd", str(write), "-screen", "0", "1400x900x24"]
    server = subprocess.Popen(command, pass_fds=(write,), stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    os.close(write)
    try:
        os.environ["DISPLAY"] = f":{os.read(read, 16).decode().strip()}"
        yield
    finally:
        os.environ.pop("DISPLAY", None)
        os.close(read)
        server.terminate()
        server.wait()


def main() -> None:
    wanted = sys.argv[1:] or list(ALL)
    for name in wanted:
        if name not in ALL:
            raise SystemExit(f"no benchmark is called {name}; there are {', '.join(ALL)}")
    with display():
        for name in wanted:
            for what, figure, bar in ALL[name]():
                print(f"{what:<58} {figure:<34} bar {bar}", flush=True)


if __name__ == "__main__":
    main()
