"""Runs benchmarks, prints a row for each (what, figure, bar) and keeps them in docs/speed.md.

Run them on an idle machine: the page says how busy it was. Rows of benchmarks that are not run stay as they are.
"""

from __future__ import annotations

import contextlib
import datetime
import os
import platform
import shutil
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

from benchmarks import (
    applied,
    checking,
    drawing,
    memory,
    over_time,
    planning,
    proving,
    replaying,
    shading,
    studying,
    surveying,
    tap,
    window,
)

ALL = {
    **tap.BENCHMARKS,
    **replaying.BENCHMARKS,
    **window.BENCHMARKS,
    **drawing.BENCHMARKS,
    **studying.BENCHMARKS,
    **shading.BENCHMARKS,
    **proving.BENCHMARKS,
    **checking.BENCHMARKS,
    **planning.BENCHMARKS,
    **over_time.BENCHMARKS,
    **memory.BENCHMARKS,
    **applied.BENCHMARKS,
    **surveying.BENCHMARKS,
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


_PAGE = Path(__file__).parent.parent / "docs" / "speed.md"
_HEAD = """# Speed

Every bar with its newest figures, written by `make bench` (`python -m benchmarks NAME ...` renews some). *Before* is
what the row said before it was renewed. Ratios compare within one run; other figures are of the machine they were
measured on.

| what | figure | bar | before | when, on what |
|---|---|---|---|---|
"""


def _kept() -> dict[str, list[str]]:
    """Rows of the page: what -> the other cells."""
    rows = {}
    for line in _PAGE.read_text().splitlines() if _PAGE.exists() else ():
        cells = [cell.strip() for cell in line.strip().strip("|").split("|")]
        if line.startswith("| ") and len(cells) == 5 and cells[0] not in ("what", "---"):
            rows[cells[0]] = cells[1:]
    return rows


def keep(rows: list[tuple[str, str, str]]) -> None:
    """Write new rows into the page, with the figures that stood there before."""
    known = _kept()
    load = os.getloadavg()[2]
    where = f"{datetime.date.today().isoformat()}, {os.cpu_count()} cores, {platform.machine()}, load {load:.1f}"
    for what, figure, bar in rows:
        before = known[what][0] if what in known else ""
        known[what] = [figure, bar, before, where]
    lines = [f"| {what} | {' | '.join(cells)} |" for what, cells in known.items()]
    _PAGE.write_text(_HEAD + "\n".join(lines) + "\n")


def main() -> None:
    wanted = sys.argv[1:] or list(ALL)
    for name in wanted:
        if name not in ALL:
            raise SystemExit(f"no benchmark is called {name}; there are {', '.join(ALL)}")
    with display():
        for name in wanted:
            rows = []
            for what, figure, bar in ALL[name]():
                print(f"{what:<58} {figure:<34} bar {bar}", flush=True)
                rows.append((what.replace("|", "/"), figure.replace("|", "/"), bar.replace("|", "/")))
            keep(rows)


if __name__ == "__main__":
    main()
