"""Runs benchmarks and prints a row for each: what, figure, bar."""

from __future__ import annotations

import sys

from benchmarks import drawing, replaying, shading, studying, tap, window

ALL = {
    **tap.BENCHMARKS,
    **replaying.BENCHMARKS,
    **window.BENCHMARKS,
    **drawing.BENCHMARKS,
    **studying.BENCHMARKS,
    **shading.BENCHMARKS,
}


def main() -> None:
    wanted = sys.argv[1:] or list(ALL)
    for name in wanted:
        if name not in ALL:
            raise SystemExit(f"no benchmark is called {name}; there are {', '.join(ALL)}")
        for what, figure, bar in ALL[name]():
            print(f"{what:<58} {figure:<34} bar {bar}", flush=True)


if __name__ == "__main__":
    main()
